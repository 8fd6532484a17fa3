/** Time pins on a span: dragged on the strip, previewed on the stage as they are. */
import { create } from 'zustand'
import { type Pin, Warp } from '../evaluation/warp'
import { cancelPreview, startPreview } from '../sync/previews'
import { apply } from '../sync/write'
import { notify, useBench } from '../view/bench'
import { transport } from '../view/transport'

interface Pins {
  /** In time; the first one stays. Null while no span is pinned. */
  pins: readonly Pin[] | null
  /** Speed changes smoothly at a pin, else at once. */
  smooth: boolean
}

export const usePins = create<Pins>(() => ({ pins: null, smooth: true }))

const { getState: get, setState: set } = usePins

// Pins mean nothing on another clip, or on one that has been given another length.
useBench.subscribe(({ clip }, { clip: before }) => {
  if (get().pins && (clip?.id !== before?.id || clip?.frames !== before?.frames))
    set({ pins: null })
})

/** The change of time that the pins make; null where they make none. */
export function warpOf({ pins, smooth }: Pins = get()): Warp | null {
  return pins?.some((p) => p.from !== p.to) ? new Warp(pins, smooth) : null
}

/** Pins at both ends of the range. */
export function pinRange(): void {
  const [first, last] = transport.range
  if (last - first < 2) {
    notify('The range is too short to be pinned: make it longer on the time strip.')
    return
  }
  set({
    pins: [
      { from: first, to: first },
      { from: last, to: last },
    ],
  })
}

export function dropPins(): void {
  if (!get().pins) return
  set({ pins: null })
  if (useBench.getState().preview?.operation === 'retime') cancelPreview()
}

/** A pin where time is now, or at a frame: what comes there shall go on coming there. */
export function addPin(frame = transport.frame): void {
  const { pins } = get()
  if (!pins) return
  const [first, last] = [pins[0]!, pins.at(-1)!]
  const source = Math.round(warpOf()?.back(frame) ?? frame)
  const inside = first.from < source && source < last.from && first.to < frame && frame < last.to
  if (!inside || pins.some((p) => p.from === source || p.to === frame)) {
    notify('A pin goes between the two at the ends of the span, where none stands yet.')
    return
  }
  set({ pins: [...pins, { from: source, to: frame }].sort((a, b) => a.from - b.from) })
  show(true)
}

export function removePin(index: number): void {
  const { pins } = get()
  if (!pins || pins.length <= 2) {
    dropPins()
    return
  }
  set({ pins: pins.filter((_, k) => k !== index) })
  show(true)
}

/** A pin put elsewhere, between its neighbours; with the last one all that follows moves along. */
export function movePin(index: number, frame: number): void {
  const { pins } = get()
  const pin = pins?.[index]
  if (!pins || !pin || index === 0) return
  const low = pins[index - 1]!.to + 1
  const high = index === pins.length - 1 ? Number.POSITIVE_INFINITY : pins[index + 1]!.to - 1
  const to = Math.min(Math.max(Math.round(frame), low), high)
  if (to === pin.to) return
  set({ pins: pins.map((p, k) => (k === index ? { ...p, to } : p)) })
  show(false)
}

export function setSmooth(smooth: boolean): void {
  set({ smooth })
  show(true)
}

const params = () => {
  const { pins, smooth } = get()
  return { pins: pins!.map((p) => [p.from, p.to]), ...(smooth ? {} : { smooth }) }
}

/** Preview what the pins make: while one is dragged the selected joints alone. */
export function show(whole: boolean): void {
  if (warpOf()) void startPreview('retime', params(), { near: !whole })
  else if (useBench.getState().preview?.operation === 'retime') cancelPreview()
}

/** The bench, and so the stage, shows the old poses at their new times until the new ones come. */
export function frameBefore(frame: number): number {
  const previewed = useBench.getState().preview?.whole
  return previewed ? frame : (warpOf()?.back(frame) ?? frame)
}

export async function applyPins(): Promise<void> {
  if (!warpOf()) return
  if (await apply('retime', params())) set({ pins: null })
}
