/** The curve sheet as a pane. */
import { Maximize2 } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { FULL, toggleFull, useFullPane } from '../bench/fullPane'
import { setReadout, shownChannels, useBench } from '../clip/bench'
import { READOUTS, type Readout, readoutName, readoutUnit, splitKey, turns } from '../clip/curves'
import { Button, inputLook, Toggle } from '../ui/controls'
import { watchPane } from '../ui/pane'
import { Sheet } from './Sheet'

/** The one sheet of the bench, for commands. */
export const sheetRef: { current: Sheet | null } = { current: null }

export function SheetView() {
  const base = useRef<HTMLCanvasElement>(null)
  const over = useRef<HTMLCanvasElement>(null)
  const readout = useRef<HTMLParagraphElement>(null)
  const [bands, setBands] = useState(false)
  const full = useFullPane() === FULL.sheet
  const clip = useBench((s) => s.clip)
  const curves = useBench((s) => s.curves)
  const preview = useBench((s) => s.preview)
  const joints = useBench((s) => s.joints)
  const channels = useBench((s) => s.channels)
  const read = useBench((s) => s.readout)

  useEffect(() => {
    const sheet = new Sheet(base.current!, over.current!)
    sheetRef.current = sheet
    sheet.onReadout = (text) => {
      if (readout.current) readout.current.textContent = text
    }
    const stop = watchPane(over.current!, sheet, sheet.draw, () => sheet.invalidate())
    void document.fonts.ready.then(() => sheet.invalidate())
    return () => {
      stop()
      sheet.dispose()
      sheetRef.current = null
    }
  }, [])

  useEffect(() => {
    if (!clip) return
    const shown = shownChannels({ clip, joints, channels, readout: read })
    const merged = preview ? new Map([...curves, ...preview.curves]) : curves
    const before = preview
      ? new Map([...curves].filter(([key]) => preview.curves.has(key)))
      : new Map<string, never>()
    const metres = clip.reading.metres_per_unit
    const named = Object.entries({ m: 1, cm: 0.01, mm: 0.001, in: 0.0254 })
    const unit = named.find(([, m]) => Math.abs(m - metres) < 1e-9)?.[0] ?? 'u'
    sheetRef.current?.show({
      clip: clip.id,
      frames: clip.frames,
      channels: shown,
      curves: merged,
      before,
      name: (key) => {
        const { joint, channel } = splitKey(key)
        const read = readoutName(key)
        const axis = channel[0] === 'p' ? ` ${channel[1]!.toUpperCase()}` : ''
        if (read) return `${clip.joints[joint]!.name} ${read}${axis}`
        return `${clip.joints[joint]!.name} ${channel[0] === 'r' ? 'turn' : 'move'} ${channel[1]!.toUpperCase()}`
      },
      unit: (key) => readoutUnit(key) ?? (turns(key) ? '°' : ` ${unit}`),
    })
  }, [clip, curves, preview, joints, channels, read])

  const toggleBands = () => {
    sheetRef.current?.setBands(!bands)
    setBands(!bands)
  }

  return (
    <section aria-label="Curve sheet" className="relative min-h-0 min-w-0 flex-1 bg-paper">
      <canvas ref={base} className="absolute inset-0 size-full" aria-hidden />
      <canvas
        ref={over}
        data-testid="sheet"
        className="absolute inset-0 size-full touch-none"
        onPointerDown={(e) => sheetRef.current?.down(e.nativeEvent)}
        onPointerMove={(e) => sheetRef.current?.move(e.nativeEvent)}
        onPointerUp={(e) => sheetRef.current?.up(e.nativeEvent)}
        onPointerLeave={() => sheetRef.current?.leave()}
      />
      <p
        ref={readout}
        data-testid="readout"
        className="num pointer-events-none absolute top-1.5 left-[66px] rounded-[3px] bg-paper/85 px-1 text-ink"
      />
      <div className="absolute top-1.5 right-6 flex gap-1.5">
        <select
          aria-label="Read out of the world"
          className={`${inputLook} h-6`}
          value={read ?? ''}
          onChange={(e) => setReadout((e.target.value || null) as Readout | null)}
        >
          <option value="">channels</option>
          {Object.keys(READOUTS).map((name) => (
            <option key={name} value={name}>
              and {name}
            </option>
          ))}
        </select>
        <Button onClick={() => sheetRef.current?.frameAll()}>Frame all</Button>
        <Button onClick={() => sheetRef.current?.aroundNow()}>Around now</Button>
        <Toggle on={bands} onClick={toggleBands} data-command="bands">
          Bands
        </Toggle>
        <Toggle
          on={full}
          aria-label="Curve sheet alone"
          onClick={() => toggleFull('sheet')}
          className="px-1.5"
        >
          <Maximize2 size={12} />
        </Toggle>
      </div>
      {joints.length === 0 && (
        <p className="absolute inset-0 grid place-items-center text-ink-2">
          Pick a joint on the stage or in the list to see its curves.
        </p>
      )}
    </section>
  )
}
