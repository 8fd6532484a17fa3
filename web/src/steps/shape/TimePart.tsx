/** Time as a whole: pins on a span, frames taken out and put in, what follows moved. */
import { X } from 'lucide-react'
import { useSyncExternalStore } from 'react'
import {
  addPin,
  applyPins,
  dropPins,
  movePin,
  pinRange,
  removePin,
  setSmooth,
  show,
  usePins,
} from '../../actions/pins'
import { Button, NumberInput, Toggle } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { PreviewNumbers } from '../operation/Outcome'
import { Trouble } from '../Panel'
import { CyclesButton } from './CyclesButton'
import { fromBench } from './fromBench'
import { LoopsFound } from './LoopsFound'
import { PartsOfClip } from './PartsOfClip'

/** Of the time as a whole, then of loops. */
const TIME = ['remove_span', 'scale_span', 'insert_frames', 'shift_from', 'slide', 'reverse']
const LOOPS = ['repeat', 'close_loop', 'begin_loop', 'travel']

/** What of the time strip a card works on, said where its button is. */
const ON: Record<string, () => string> = {
  remove_span: () => `Frames ${transport.range.join(' – ')}, the range of the time strip.`,
  scale_span: () => `Frames ${transport.range.join(' – ')}, the range of the time strip.`,
  insert_frames: () => `After frame ${transport.frame}, now.`,
  shift_from: () => `From frame ${transport.frame}, now.`,
  slide: () => `Scaled about frame ${transport.frame}, now.`,
  begin_loop: () => `At frame ${transport.frame}, now.`,
}

function Said({ name }: { name: string }) {
  const text = useSyncExternalStore(transport.subscribe, ON[name]!)
  return <p className="font-semibold">{text}</p>
}

function Pins() {
  const { pins, smooth } = usePins()
  const preview = useBench((s) => (s.preview?.operation === 'retime' ? s.preview : null))
  const trouble = useBench((s) => s.previewTrouble)
  const saving = useBench((s) => s.saving)
  if (!pins)
    return (
      <section className="flex flex-col gap-2" aria-label="Time pins">
        <p className="text-ink-2">
          Pin a span and drag its pins: the motion between them comes sooner or later. Contacts,
          marks and accepted findings move along.
        </p>
        <Button className="h-7" onClick={pinRange}>
          Pin the range
        </Button>
      </section>
    )
  const moved = pins.some((p) => p.from !== p.to)
  return (
    <section className="flex flex-col gap-2" aria-label="Time pins">
      <p className="text-ink-2">
        Drag pins in their lane on the time strip. With the last one all that follows moves along.
      </p>
      <ul className="flex flex-col gap-1">
        {pins.map((pin, k) => (
          <li key={pin.from} className="flex items-center gap-2">
            <span className="num w-12 text-right">{pin.from}</span>
            <span className="text-ink-3">comes at</span>
            {k === 0 ? (
              <span className="num px-2">{pin.to}</span>
            ) : (
              <NumberInput
                label={`Frame at which ${pin.from} shall come`}
                value={pin.to}
                onCommit={(frame) => {
                  movePin(k, frame)
                  show(true)
                }}
              />
            )}
            {k > 0 && k < pins.length - 1 && (
              <Button
                kind="quiet"
                className="ml-auto px-1"
                aria-label={`Delete the pin at ${pin.from}`}
                onClick={() => removePin(k)}
              >
                <X size={13} />
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Button className="self-start" onClick={() => addPin()}>
        Pin now
      </Button>
      <div className="flex items-center gap-1.5">
        <span className="mr-auto text-ink-2">speed at pins</span>
        <Toggle on={smooth} onClick={() => setSmooth(true)}>
          smooth
        </Toggle>
        <Toggle on={!smooth} onClick={() => setSmooth(false)}>
          broken
        </Toggle>
      </div>
      {trouble && <Trouble>{trouble}</Trouble>}
      {preview && <PreviewNumbers preview={preview} />}
      <div className="flex gap-2 [&>button]:h-7 [&>button]:flex-1">
        <Button onClick={dropPins}>Put back</Button>
        <Button kind="primary" disabled={!moved || saving} onClick={() => void applyPins()}>
          Apply pins
        </Button>
      </div>
    </section>
  )
}

function Cards({ names }: { names: readonly string[] }) {
  return (
    <div className="flex flex-col gap-1.5">
      {names.map((name) => (
        <OperationCard key={name} name={name} where="shown" {...fromBench(name)}>
          {ON[name] && <Said name={name} />}
        </OperationCard>
      ))}
    </div>
  )
}

export function TimePart() {
  return (
    <div className="flex flex-col gap-3">
      <Pins />
      <Cards names={TIME} />
      <PartsOfClip />
      <h3 className="font-semibold">Loops and travel</h3>
      <LoopsFound />
      <Cards names={LOOPS} />
      <CyclesButton />
    </div>
  )
}
