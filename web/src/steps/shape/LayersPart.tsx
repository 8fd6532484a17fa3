/** Layers: corrections laid over the clip, bottom to top, weighed, muted, keyed and deleted. */
import { useQuery } from '@tanstack/react-query'
import { ChevronDown, ChevronUp, Lock, LockOpen, Volume2, VolumeX } from 'lucide-react'
import { useEffect, useState, useSyncExternalStore } from 'react'
import { commitEdits, showEdits } from '../../actions/edits'
import {
  changeLayer,
  chooseLayer,
  flatten,
  KINDS,
  type Kind,
  moveLayer,
  newLayer,
  SPACES,
  type Space,
  toggleSolo,
  weightEdits,
  weightNow,
} from '../../actions/layers'
import { answer, client, type Schemas, textOf } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import type { Layer } from '../../evaluation/owners'
import { bringCurves } from '../../sync/confirmed'
import { apply } from '../../sync/write'
import {
  Button,
  Check,
  inputLook,
  NumberInput,
  Select,
  Slider,
  Tip,
  Toggle,
} from '../../ui/controls'
import { degrees, millimetres } from '../../ui/numbers'
import { notify, useBench } from '../../view/bench'
import { useLayers } from '../../view/layerChoice'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { useSource } from '../operation/SourceClip'
import { landing } from '../retarget/BringOver'
import { LayerKeys } from './LayerKeys'
import { LayerMoves } from './LayerMoves'
import { PlacementPart } from './PlacementPart'

type Change = Schemas['LayerChangeOut']

/** What layers change, asked anew with each state. */
function useChanges(clip: Clip): ReadonlyMap<string, Change> {
  const { data } = useQuery({
    queryKey: ['layers', clip.id, clip.head.id],
    enabled: clip.layers.length > 0,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/layers', {
          params: { path: { clip_id: clip.id }, query: { revision: clip.head.id } },
        }),
      ),
  })
  return new Map(data?.map((c) => [c.name, c]))
}

const DRAGGED = 'application/x-layer'

function Row({
  layer,
  at,
  clip,
  change,
}: {
  layer: Layer
  at: number
  clip: Clip
  change: Change | undefined
}) {
  const chosen = useLayers((s) => s.chosen === layer.id)
  const alone = useLayers((s) => s.solo.includes(layer.id))
  const weight = useBench((s) => weightNow(s.curves, layer))
  useSyncExternalStore(transport.subscribe, () => transport.frame)
  const last = clip.layers.length - 1
  const icon = 'grid size-6 shrink-0 place-items-center rounded-[3px] hover:bg-paper'
  return (
    <li
      draggable
      onDragStart={(e) => e.dataTransfer.setData(DRAGGED, layer.name)}
      onDragOver={(e) => {
        if (e.dataTransfer.types.includes(DRAGGED)) e.preventDefault()
      }}
      onDrop={(e) => {
        const moved = clip.layers.find((x) => x.name === e.dataTransfer.getData(DRAGGED))
        if (moved && moved.id !== layer.id) void moveLayer(moved, at)
      }}
      aria-label={`Layer ${layer.name}`}
      className={`border-rule border-t ${chosen ? 'bg-sunk' : ''}`}
    >
      <div className="flex h-8 items-center gap-1 px-1.5">
        <button
          type="button"
          aria-pressed={chosen}
          className={`min-w-0 flex-1 truncate text-left ${chosen ? 'font-semibold' : ''} ${layer.muted ? 'text-ink-3 line-through' : ''}`}
          onClick={() => chooseLayer(layer.id)}
        >
          {layer.name}
        </button>
        <NumberInput
          label={`Weight of ${layer.name}, percent`}
          className="w-14"
          digits={0}
          value={100 * weight}
          onCommit={(v) => void commitEdits(weightEdits(layer, within(v) / 100))}
        />
        <span className="text-ink-3">%</span>
        <button
          type="button"
          aria-label={layer.muted ? `Unmute ${layer.name}` : `Mute ${layer.name}`}
          aria-pressed={layer.muted}
          className={`${icon} ${layer.muted ? 'text-signal' : 'text-ink-2'}`}
          onClick={() => void changeLayer(layer, { muted: !layer.muted })}
        >
          {layer.muted ? <VolumeX size={13} /> : <Volume2 size={13} />}
        </button>
      </div>
      <div className="flex items-center gap-1 px-1.5 pb-1 text-[12px] text-ink-3">
        <p className="flex min-w-0 flex-1 flex-wrap gap-x-2">
          <span>{change ? change.parts.join(', ') || 'touches nothing yet' : 'measuring …'}</span>
          {change && change.parts.length > 0 && (
            <>
              <span className="num">
                up to {degrees(change.max_deg)}, {millimetres(change.max_mm)}
              </span>
              <button
                type="button"
                className="underline"
                onClick={() => transport.goTo(change.max_end_frame)}
              >
                frame {change.max_end_frame}
              </button>
            </>
          )}
        </p>
        <Toggle
          on={alone}
          className="h-6 px-1.5"
          aria-label={`Solo ${layer.name}`}
          onClick={() => toggleSolo(layer)}
        >
          Solo
        </Toggle>
        <button
          type="button"
          aria-label={layer.locked ? `Unlock ${layer.name}` : `Lock ${layer.name}`}
          aria-pressed={layer.locked}
          className={`${icon} ${layer.locked ? 'text-signal' : 'text-ink-3'}`}
          onClick={() => void changeLayer(layer, { locked: !layer.locked })}
        >
          {layer.locked ? <Lock size={12} /> : <LockOpen size={12} />}
        </button>
        <span className="flex">
          <button
            type="button"
            aria-label={`Put ${layer.name} one higher`}
            disabled={at === last}
            className={`${icon} disabled:opacity-30`}
            onClick={() => void moveLayer(layer, at + 1)}
          >
            <ChevronUp size={13} />
          </button>
          <button
            type="button"
            aria-label={`Put ${layer.name} one lower`}
            disabled={at === 0}
            className={`${icon} disabled:opacity-30`}
            onClick={() => void moveLayer(layer, at - 1)}
          >
            <ChevronDown size={13} />
          </button>
        </span>
      </div>
    </li>
  )
}

const MOST = 200 // %
/** All of it, once a drag comes near: arrow keys still reach every percent beside it. */
const NEAR_ALL = 4 // %
const snapped = (percent: number): number => (Math.abs(percent - 100) <= NEAR_ALL ? 100 : percent)
const within = (percent: number): number => Math.max(0, Math.min(MOST, percent))

/** The weight at now, dragged with the stage following; a key of its curve where that has several. */
function Weight({ layer }: { layer: Layer }) {
  const weight = useBench((s) => weightNow(s.curves, layer))
  useSyncExternalStore(transport.subscribe, () => transport.frame)
  const [dragged, setDragged] = useState<number | null>(null)
  const now = dragged ?? 100 * weight
  return (
    <Slider
      label="Weight at now"
      shown={`${Math.round(now)} %`}
      value={[now]}
      min={0}
      max={MOST}
      step={1}
      onValueChange={([v]) => {
        const at = snapped(v!)
        setDragged(at)
        showEdits(weightEdits(layer, at / 100))
      }}
      onValueCommit={([v]) => {
        setDragged(null)
        void commitEdits(weightEdits(layer, snapped(v!) / 100))
      }}
    />
  )
}

function Chosen({ layer, clip }: { layer: Layer; clip: Clip }) {
  return (
    <section
      aria-label={`The layer ${layer.name}`}
      className="flex flex-col gap-2 rounded-[4px] border border-rule-2 px-3 pt-2 pb-3"
    >
      <div className="flex items-center gap-1.5">
        <input
          key={layer.name}
          aria-label="Name of the layer"
          className={`${inputLook} h-6 min-w-0 flex-1`}
          defaultValue={layer.name}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          onBlur={(e) => {
            const named = e.currentTarget.value.trim()
            if (named && named !== layer.name) void changeLayer(layer, { new_name: named })
          }}
        />
        <span className="text-ink-3">{KINDS[layer.kind]}</span>
      </div>
      <Weight layer={layer} />
      {layer.kind === 'additive' && (
        <div className="flex items-center justify-between gap-2 text-ink-2">
          Space
          <Select
            label="Space of the layer"
            value={layer.space}
            options={SPACES}
            onChange={(space) => void changeLayer(layer, { space: space as Space })}
          />
        </div>
      )}
      <LayerKeys {...{ layer, clip }} />
      <LayerMoves {...{ layer, clip }} />
    </section>
  )
}

export function LayersPart() {
  const clip = useBench((s) => s.clip)
  return clip && <Layers clip={clip} />
}

function Layers({ clip }: { clip: Clip }) {
  const id = useLayers((s) => s.chosen)
  const keyed = useLayers((s) => s.keyed)
  const [name, setName] = useState('')
  const [kind, setKind] = useState<Kind>('additive')
  const count = clip.layers.length
  // Weights and values at now are the layers' curves: they are brought with each state.
  // biome-ignore lint/correctness/useExhaustiveDependencies: asked anew with each state
  useEffect(() => {
    if (count) bringCurves().catch((trouble: unknown) => notify(textOf(trouble)))
  }, [clip.head.id, count])
  const changes = useChanges(clip)
  const chosen = clip.layers.find((x) => x.id === id)
  const make = () => {
    void newLayer(name, kind)
    setName('')
  }
  return (
    <div className="flex flex-col gap-2.5">
      <p className="text-ink-2">
        Corrections over the clip, bottom to top. What lies below stays as it is: mute or delete a
        layer, and it is there again.
      </p>
      <input
        aria-label="Name of a new layer"
        placeholder="what it corrects"
        className={`${inputLook} h-7`}
        value={name}
        onChange={(e) => setName(e.target.value)}
        onKeyDown={(e) => e.key === 'Enter' && make()}
      />
      <div className="flex items-center justify-between gap-1.5 [&>button]:h-7">
        <Select
          label="Kind of a new layer"
          value={kind}
          options={KINDS}
          onChange={(k) => setKind(k as Kind)}
        />
        <Button kind="primary" onClick={make}>
          New layer
        </Button>
      </div>
      {count > 0 && (
        <ol
          aria-label="Layers, the topmost first"
          className="rounded-[4px] border border-rule-2 border-t-0"
        >
          {[...clip.layers].reverse().map((layer) => (
            <Row
              key={layer.id}
              layer={layer}
              at={clip.layers.indexOf(layer)}
              clip={clip}
              change={changes.get(layer.name)}
            />
          ))}
          <li
            aria-label="The clip’s own curves"
            className={`flex h-8 items-center border-rule border-t px-1.5 ${chosen ? '' : 'bg-sunk'}`}
          >
            <button
              type="button"
              aria-pressed={!chosen}
              className={`min-w-0 flex-1 truncate text-left ${chosen ? '' : 'font-semibold'}`}
              onClick={() => chooseLayer(null)}
            >
              clip curves
            </button>
            {!chosen && <span className="text-[12px] text-ink-3">no layer is active</span>}
          </li>
        </ol>
      )}
      {chosen && <Chosen layer={chosen} clip={clip} />}
      <PlacementPart clip={clip} />
      <div className="flex flex-wrap gap-1.5">
        <Tip text="What was done by hand to the clip’s own curves becomes a layer right over them">
          <Button onClick={() => void apply('lift', {})}>Extract edits to a layer</Button>
        </Tip>
        <Tip text="The clip’s own curves become the capture’s again; all that was done to them becomes a layer right over them">
          <Button onClick={() => void apply('lift', { what: 'all', name: 'all work' })}>
            Extract all work to a layer
          </Button>
        </Tip>
        {(count > 0 || clip.placement) && (
          <Tip text="Write the motion as it is, plants too, into the clip’s own curves; layers go, plants stay muted, and undo brings them back">
            <Button onClick={() => void flatten()}>Flatten all</Button>
          </Tip>
        )}
      </div>
      {count > 0 && (
        <Check
          on={keyed}
          onChange={(on) => useLayers.setState({ keyed: on })}
          title="Off: a value on every frame"
        >
          Flatten and merge to keys, within 0.1°
        </Check>
      )}
      <Load clip={clip} />
    </div>
  )
}

/** Another clip on a layer of its own. */
function Load({ clip }: { clip: Clip }) {
  const { choice, inputs } = useSource(clip)
  const told = useSource(clip, true)
  const given =
    inputs === 'to be chosen' || !told.state ? inputs : { ...inputs, reference: told.state }
  return (
    <OperationCard name="load_layer" hidden={HIDDEN} live={landing} inputs={given}>
      {choice('Clip to load')}
      <p className="text-ink-2">A difference from a frame of another clip is told from</p>
      {told.choice('Clip or pose it is told from')}
    </OperationCard>
  )
}

const HIDDEN = ['joints', 'at']
