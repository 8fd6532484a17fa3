/** The active layer, which takes keys: told and chosen on the stage, or where the sheet is alone. */

import { chooseLayer, showCurvesOf, whyNoKeys } from '../actions/layers'
import { Select } from '../ui/controls'
import { useBench } from '../view/bench'
import { SHOWN, type Shown, useLayers } from '../view/layerChoice'

/** What of the active layer the curve sheet shows. */
export function ShownCurves() {
  const layers = useBench((s) => s.clip?.layers)
  const { chosen, shown } = useLayers()
  const shaping = useBench((s) => s.step === 'shape')
  if (!shaping || !layers?.some((x) => x.id === chosen)) return null
  return (
    <Select
      label="Curves of the selected joints"
      value={shown}
      options={SHOWN}
      onChange={(value) => showCurvesOf(value as Shown)}
      className="max-w-44"
    />
  )
}

/** Nothing where the clip has no layers. */
export function ActiveLayer({ className = '' }: { className?: string }) {
  const layers = useBench((s) => s.clip?.layers)
  const chosen = useLayers((s) => s.chosen)
  useLayers((s) => s.solo)
  if (!layers?.length) return null
  const layer = layers.find((x) => x.id === chosen)
  const why = layer && whyNoKeys(layer)
  return (
    <span
      className={`flex flex-wrap items-center gap-1.5 rounded-[3px] border border-rule-2 bg-raised px-1.5 py-0.5 text-ink-2 ${className}`}
    >
      active layer
      <Select
        label="Active layer"
        value={layer ? String(chosen) : ''}
        options={{
          ...Object.fromEntries([...layers].reverse().map((x) => [String(x.id), x.name])),
          '': 'none: clip curves',
        }}
        onChange={(id) => chooseLayer(id === '' ? null : Number(id))}
        className={`max-w-44 ${layer ? 'font-semibold' : ''}`}
      />
      {why && <span className="text-bad">{why}</span>}
    </span>
  )
}
