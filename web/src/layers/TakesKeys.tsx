/** The active layer, which takes keys: told wherever keys are made, and chosen there. */

import { chooseLayer, showCurvesOf, whyNoKeys } from '../actions/layers'
import { Select } from '../ui/controls'
import { useBench } from '../view/bench'
import { SHOWN, type Shown, useLayers } from '../view/layerChoice'

/** The active layer, where there is one: beside what is posed. */
export function TakingKeys({ className }: { className: string }) {
  const layers = useBench((s) => s.clip?.layers)
  const chosen = useLayers((s) => s.chosen)
  const layer = layers?.find((x) => x.id === chosen)
  if (!layer) return null
  const why = whyNoKeys(layer)
  return (
    <p
      className={`rounded-[3px] border border-rule-2 bg-raised px-1.5 py-0.5 ${why ? 'text-bad' : 'text-ink-2'} ${className}`}
    >
      {why || (
        <>
          active layer: <b className="text-ink">{layer.name}</b>
        </>
      )}
    </p>
  )
}

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
export function TakesKeys({ className = '' }: { className?: string }) {
  const layers = useBench((s) => s.clip?.layers)
  const chosen = useLayers((s) => s.chosen)
  if (!layers?.length) return null
  const known = layers.some((x) => x.id === chosen)
  return (
    <span className={`flex items-center gap-1.5 whitespace-nowrap text-ink-2 ${className}`}>
      active layer
      <Select
        label="Active layer"
        value={known ? String(chosen) : ''}
        options={{
          ...Object.fromEntries([...layers].reverse().map((x) => [String(x.id), x.name])),
          '': 'none: clip curves',
        }}
        onChange={(id) => chooseLayer(id === '' ? null : Number(id))}
        className={`max-w-44 ${known ? 'font-semibold' : ''}`}
      />
    </span>
  )
}
