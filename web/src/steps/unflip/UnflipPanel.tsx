/** Unflip: how many flips of each sort stand, where, and what making them continuous does. */
import type { Schemas } from '../../api/client'
import { apply, cancelPreview, selectJoints, startPreview, useBench } from '../../clip/bench'
import { transport } from '../../clip/transport'
import { sheetRef } from '../../sheet/SheetView'
import { Button, Row } from '../../ui/controls'
import { degrees, millimetres } from '../../ui/numbers'
import { Panel, Trouble } from '../Panel'

const MOST_LISTED = 60

function Places({ title, list }: { title: string; list: Schemas['FlipPlace'][] }) {
  const clip = useBench((s) => s.clip)
  if (!clip || list.length === 0) return null
  return (
    <section>
      <h3 className="mb-1 font-semibold text-ink-2">{title}</h3>
      <ul className="max-h-36 overflow-y-auto rounded-[3px] border border-rule bg-paper">
        {list.slice(0, MOST_LISTED).map((f) => (
          <li key={`${f.joint}/${f.channel ?? ''}/${f.frame}`}>
            <button
              type="button"
              className="flex h-6 w-full items-center justify-between gap-2 px-2 text-left hover:bg-sunk"
              onClick={() => {
                transport.pause()
                transport.seek(f.frame)
                selectJoints([clip.joints.findIndex((j) => j.name === f.joint)])
                setTimeout(() => sheetRef.current?.aroundNow(), 150)
              }}
            >
              <span className="truncate">
                {f.joint}
                {f.channel && ` ${f.channel[1]!.toUpperCase()}`}
              </span>
              <span className="num text-ink-3">
                {f.degrees != null && `${f.degrees.toFixed(0)}° · `}
                {f.frame}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {list.length > MOST_LISTED && (
        <p className="mt-1 text-ink-3">and {list.length - MOST_LISTED} more</p>
      )}
    </section>
  )
}

export function UnflipPanel() {
  const flips = useBench((s) => s.flips)
  const preview = useBench((s) => s.preview)
  const trouble = useBench((s) => s.previewTrouble)
  const saving = useBench((s) => s.saving)
  const found = flips ? flips.wraps + flips.alternates : 0
  const shown = preview?.operation === 'unflip'
  const whole = shown ? preview.whole : undefined
  return (
    <Panel
      title="Unflip"
      lead="The same poses with continuous curves. Turns that are true in the data stay."
      actions={
        <>
          {shown ? (
            <Button onClick={cancelPreview}>Discard</Button>
          ) : (
            <Button disabled={!found} onClick={() => void startPreview('unflip', {})}>
              Preview
            </Button>
          )}
          <Button
            kind="primary"
            disabled={!found || saving}
            onClick={() => void apply('unflip', {})}
          >
            {saving ? 'Applying …' : 'Apply unflip'}
          </Button>
        </>
      }
    >
      {trouble && <Trouble>{trouble}</Trouble>}
      {flips === null && <p className="text-ink-3">Looking for flips …</p>}
      {flips && (
        <dl>
          <Row name="Wraps of ±360°">{flips.wraps}</Row>
          <Row name="Alternate solutions">{flips.alternates}</Row>
          <Row name="Snaps: true jumps, they stay">{flips.snaps}</Row>
          {shown && (
            <>
              <Row name="Flips after">{whole ? whole.flipsLeft : '…'}</Row>
              <Row name="Drift, largest">{whole ? degrees(rounded(whole.drift.max_deg)) : '…'}</Row>
              <Row name="Drift at the ends">
                {whole ? millimetres(rounded(whole.drift.max_mm)) : '…'}
              </Row>
            </>
          )}
        </dl>
      )}
      {flips && found === 0 && (
        <p className="rounded-[3px] border border-ok px-2.5 py-1.5 text-ok">
          No flips: every rotation channel is continuous. Go on to Thin.
        </p>
      )}
      {flips && (
        <>
          <Places title="Wraps" list={flips.wraps_at} />
          <Places title="Alternate solutions" list={flips.alternates_at} />
          <Places title="Snaps" list={flips.snaps_at} />
        </>
      )}
    </Panel>
  )
}

/** Below a millionth of a degree is rounding of doubles, not motion. */
const rounded = (v: number) => (v < 1e-6 ? 0 : v)
