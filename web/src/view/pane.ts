/** What every canvas pane listens to: its own size, time, and the theme. */

import { onTheme } from '../ui/theme'
import { transport } from './transport'

/** Begin listening for a canvas; returns how to stop. */
export function watchPane(
  canvas: HTMLCanvasElement,
  pane: { resize: (width: number, height: number) => void },
  onTime: () => void,
  onColours: () => void,
): () => void {
  const observer = new ResizeObserver(() => pane.resize(canvas.clientWidth, canvas.clientHeight))
  observer.observe(canvas)
  const stops = [transport.subscribe(onTime), onTheme(onColours)]
  return () => {
    observer.disconnect()
    for (const stop of stops) stop()
  }
}
