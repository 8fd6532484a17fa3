/** Hand edits that found no key after a change above: shown where they were, placed by hand. */

import { selectChannels } from '../../actions/choose'
import type { Schemas } from '../../api/client'
import { channelTitle } from '../../evaluation/curves'
import type { KeyEdit } from '../../evaluation/keys'
import { channelNamed } from '../../evaluation/owners'
import { write } from '../../sync/write'
import { Button } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { useSelection } from '../../view/selection'
import { transport } from '../../view/transport'
import { useViewing } from '../../view/viewing'

type Line = Schemas['RecipeLineOut']
type Lost = KeyEdit & { owner?: string; joint: string; channel: string }

const isKey = (what: unknown): what is Lost =>
  typeof what === 'object' && what !== null && 'frame' in what && 'channel' in what

/** The edits of a line that have no place; what is no edit of a key has none to be shown. */
export const unplacedIn = (line: Line): Lost[] =>
  ((line.report.unplaced ?? []) as unknown[]).filter(isKey)

const same = (a: Lost, b: Lost): boolean =>
  a.owner === b.owner &&
  a.joint === b.joint &&
  a.channel === b.channel &&
  a.id === b.id &&
  a.frame === b.frame &&
  (a.turn ?? 0) === (b.turn ?? 0)

export function Unplaced({ line }: { line: Line }) {
  const lost = unplacedIn(line)
  if (!lost.length) return null
  return (
    <ul aria-label="Edits without a place" className="flex flex-col gap-1 pb-2">
      {lost.map((edit) => (
        <Edit
          key={`${edit.owner}/${edit.joint}/${edit.channel}/${edit.id}/${edit.turn ?? 0}`}
          {...{ line, edit }}
        />
      ))}
    </ul>
  )
}

function Edit({ line, edit }: { line: Line; edit: Lost }) {
  const clip = useBench((s) => s.clip)!
  const found = channelNamed(clip, edit.joint, edit.channel, edit.owner)
  const key = found ?? ''
  const picked = useSelection((s) => s.keys.get(key))
  const curve = useBench((s) => s.curves.get(key))
  const keys = line.params.keys as Lost[] | undefined
  const alone = picked?.size === 1 && curve?.kind === 'keyed' && keys ? [...picked][0]! : null
  const show = () => {
    selectChannels([key])
    transport.seek(edit.frame)
    const value = edit.value ?? edit.was
    useViewing.setState({ lost: value === undefined ? null : { key, frame: edit.frame, value } })
  }
  const place = () => {
    if (alone === null || curve?.kind !== 'keyed') return
    const k = [...curve.id].findIndex((id) => Number(id) === alone)
    const here = { id: alone, frame: curve.time[k]!, was: curve.value[k]! }
    const placed = keys!.map((own) => (same(own, edit) ? { ...own, ...here } : own))
    useViewing.setState({ lost: null })
    const { line_id, operation, scope, params } = line
    void write(
      { edit: { line_id, operation, scope, params: { ...params, keys: placed } } },
      'The edit’s new place',
    )
  }
  return (
    <li className="flex flex-wrap items-center gap-1.5 text-[12px]">
      <span className="min-w-0 flex-1 truncate text-bad">
        {edit.joint} {channelTitle(edit.channel)}, frame{' '}
        <span className="num">{Number(edit.frame.toFixed(2))}</span>
      </span>
      <Button disabled={found === null} onClick={show}>
        Show
      </Button>
      <Button
        disabled={alone === null}
        title="Select the key that is meant, then press"
        onClick={place}
      >
        Place on the selected key
      </Button>
    </li>
  )
}
