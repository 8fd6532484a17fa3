/** Values over time, or keys over time: which of the two sheets is shown. */

import { showTiming } from '../actions/folding'
import { Toggle } from '../ui/controls'
import { useViewing } from '../view/viewing'

export function SheetChoice() {
  const timing = useViewing((s) => s.timing)
  return (
    <fieldset className="flex gap-1" aria-label="Which sheet">
      <Toggle on={!timing} className="px-1.5" onClick={() => showTiming(false)}>
        Curves
      </Toggle>
      <Toggle on={timing} className="px-1.5" onClick={() => showTiming(true)}>
        Timing
      </Toggle>
    </fieldset>
  )
}
