/** What is drawn behind the curves and over them: the before trace, and a guide to match. */
import { useQuery } from '@tanstack/react-query'
import { setReadout } from '../actions/choose'
import {
  changeGuide,
  dropGuide,
  keepCopy,
  meetNow,
  setGuideOf,
  setTrace,
  swapTrace,
} from '../actions/traces'
import { answer, client } from '../api/client'
import { channelTitle, READOUTS, type Readout } from '../evaluation/curves'
import { useHistory } from '../sync/history'
import { Button, Check, inputLook, NumberInput, Popover } from '../ui/controls'
import { useBench } from '../view/bench'
import { setFollows, useViewing } from '../view/viewing'

export function BehindMenu() {
  return (
    <Popover name="Traces" trigger={<Button>Traces</Button>}>
      <div className="flex w-72 flex-col gap-3">
        <ReadoutField />
        <TraceFields />
        <GuideFields />
        <SheetHabits />
      </div>
    </Popover>
  )
}

function ReadoutField() {
  const read = useBench((s) => s.readout)
  return (
    <label className="flex items-center justify-between text-ink-2">
      beside the channels
      <select
        aria-label="Read out of the world"
        className={`${inputLook} h-6`}
        value={read ?? ''}
        onChange={(e) => setReadout((e.target.value || null) as Readout | null)}
      >
        <option value="">nothing</option>
        {Object.keys(READOUTS).map((name) => (
          <option key={name} value={name}>
            world {name}
          </option>
        ))}
      </select>
    </label>
  )
}

function TraceFields() {
  const trace = useViewing((s) => s.trace)
  const history = useHistory()
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="mb-1 font-semibold text-ink">Before trace</legend>
      <select
        aria-label="Before trace"
        className={`${inputLook} h-6`}
        value={trace}
        onChange={(e) => {
          const { value } = e.target
          void setTrace(value === 'none' || value === 'take' ? value : Number(value))
        }}
      >
        <option value="none">none</option>
        <option value="take">the take</option>
        {[...(history.data ?? [])].reverse().map((r) => (
          <option key={r.id} value={r.id}>
            {r.number} · {r.cause}
          </option>
        ))}
      </select>
      <div className="flex gap-1.5 [&>button]:flex-1">
        <Button onClick={keepCopy}>Keep a copy</Button>
        <Button disabled={typeof trace !== 'number'} onClick={() => void swapTrace()}>
          Swap
        </Button>
        <Button disabled={trace === 'none'} onClick={() => void setTrace('none')}>
          Drop
        </Button>
      </div>
    </fieldset>
  )
}

function GuideFields() {
  const clip = useBench((s) => s.clip)
  const guide = useViewing((s) => s.guide)
  const takes = useQuery({
    queryKey: ['takes', clip?.workspace],
    enabled: clip !== null,
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/takes', {
          params: { path: { workspace_id: clip!.workspace } },
        }),
      ),
  })
  return (
    <fieldset className="flex flex-col gap-1.5 text-ink-2">
      <legend className="mb-1 font-semibold text-ink">Guide</legend>
      <select
        aria-label="Guide clip"
        className={`${inputLook} h-6`}
        value={guide?.take ?? ''}
        onChange={(e) => (e.target.value ? void setGuideOf(Number(e.target.value)) : dropGuide())}
      >
        <option value="">none</option>
        {takes.data?.map((t) => (
          <option key={t.id} value={t.id}>
            {t.clip !== null && t.clip === clip?.id ? `${t.name} (this clip)` : t.name}
          </option>
        ))}
      </select>
      {guide && (
        <>
          <div className="flex gap-1.5">
            <select
              aria-label="Guide joint"
              className={`${inputLook} h-6 flex-1`}
              value={guide.joint}
              onChange={(e) => {
                const joint = Number(e.target.value)
                const own = guide.doc.joints[joint]!.channels
                const channel = own.includes(guide.channel) ? guide.channel : own[0]!
                void changeGuide({ joint, channel })
              }}
            >
              {guide.doc.joints.map((j, k) => (
                <option key={j.name} value={k}>
                  {j.name}
                </option>
              ))}
            </select>
            <select
              aria-label="Guide channel"
              className={`${inputLook} h-6`}
              value={guide.channel}
              onChange={(e) => void changeGuide({ channel: e.target.value })}
            >
              {guide.doc.joints[guide.joint]!.channels.map((c) => (
                <option key={c} value={c}>
                  {channelTitle(c)}
                </option>
              ))}
            </select>
          </div>
          <label className="flex items-center justify-between">
            later by, frames
            <NumberInput
              label="Guide later by, frames"
              value={guide.offset}
              onCommit={(v) => void changeGuide({ offset: Math.round(v) })}
            />
          </label>
          <label className="flex items-center justify-between">
            figure beside, m
            <NumberInput
              label="Guide figure beside, metres"
              value={guide.beside}
              onCommit={(beside) => void changeGuide({ beside })}
            />
          </label>
          <div className="flex gap-1.5 [&>button]:flex-1">
            <Button onClick={meetNow}>Meet now</Button>
            <Button onClick={() => void changeGuide({ raised: 0 })}>As it is</Button>
            <Button onClick={dropGuide}>Drop</Button>
          </div>
        </>
      )}
    </fieldset>
  )
}

function SheetHabits() {
  const follows = useViewing((s) => s.follows)
  const step = useViewing((s) => s.step)
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="mb-1 font-semibold text-ink">While picking and moving</legend>
      <Check on={follows} onChange={setFollows}>
        Time follows the picked key
      </Check>
      <label className="flex items-center justify-between text-ink-2">
        values snap to steps of (0: none)
        <NumberInput
          label="Value step"
          value={step}
          onCommit={(v) => useViewing.setState({ step: Math.max(v, 0) })}
        />
      </label>
    </fieldset>
  )
}
