/** The views that selections were seen with, kept in the browser. */
import { debounced } from '../api/awaited'
import type { ChannelKey } from '../evaluation/curves'
import { stretched, type View } from '../ui/geometry'

const PLACE = 'lean.sheet.views'
const MOST = 400
const REST = 300 // ms

/** The key under which a selection's view is remembered. */
export const memoryKey = (clip: number, channels: readonly ChannelKey[]): string =>
  `${clip}:${channels.join(',')}`

export class ViewMemory {
  private views: Record<string, View> = {}
  private writing = debounced(() => localStorage.setItem(PLACE, JSON.stringify(this.views)), REST)

  constructor() {
    try {
      this.views = JSON.parse(localStorage.getItem(PLACE) ?? '{}') as Record<string, View>
    } catch {
      this.views = {}
    }
  }

  of(name: string): View | undefined {
    return this.views[name]
  }

  keep(name: string, view: View): void {
    // The newest stands last; the oldest are forgotten.
    delete this.views[name]
    this.views[name] = view
    const names = Object.keys(this.views)
    for (const old of names.slice(0, Math.max(0, names.length - MOST))) delete this.views[old]
    // Written once the view has come to rest: too slow for each step of a drag.
    this.writing.soon()
  }

  /** A clip's frames are of another length: its views stay where they were in seconds. */
  stretch(clip: number, scale: number): void {
    for (const [name, view] of Object.entries(this.views))
      if (name.startsWith(`${clip}:`)) this.views[name] = stretched(view, scale)
    this.writing.soon()
  }

  write(): void {
    this.writing.now()
  }
}
