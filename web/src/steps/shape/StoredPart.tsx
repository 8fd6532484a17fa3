/** Stored poses and motions: kept with a picture, found by a word, taken by a share. */
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { beginAnew, keepStored, type Stored, takePose } from '../../actions/stored'
import { answer, client, textOf } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { Button, Check, inputLook, Slider, Tip } from '../../ui/controls'
import { counted } from '../../ui/numbers'
import { Picture } from '../../ui/Picture'
import { notify, useBench } from '../../view/bench'
import { useOpenCard } from '../../view/openCard'
import { transport } from '../../view/transport'
import { useStored } from '../operation/SourceClip'

const words = (text: string): string[] =>
  text
    .split(',')
    .map((word) => word.trim())
    .filter(Boolean)

const has = (stored: Stored, word: string): boolean =>
  [stored.name, ...stored.tags].some((text) => text.toLowerCase().includes(word.toLowerCase()))

/** The range of the strip where one is set; null while it is the whole clip. */
function rangeSet(): readonly [number, number] | null {
  const [first, last] = transport.range
  return first > 0 || last < transport.frames - 1 ? [first, last] : null
}

function Keep({ onKept }: { onKept: (kept: Stored) => void }) {
  const [name, setName] = useState('')
  const [tags, setTags] = useState('')
  const keep = async (frames: readonly [number, number] | null) => {
    if (!name.trim()) notify('Give it a name first.')
    else if (!frames) notify('Set a range on the strip first: that is what is kept.')
    else {
      const kept = await keepStored(name.trim(), words(tags), frames)
      if (!kept) return
      setName('')
      setTags('')
      onKept(kept)
    }
  }
  return (
    <div className="flex flex-col gap-1.5">
      <div className="flex gap-1.5">
        <input
          aria-label="Name of what is kept"
          placeholder="name"
          className={`${inputLook} h-6 min-w-0 flex-1`}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <input
          aria-label="Words to find it by"
          placeholder="words, …"
          className={`${inputLook} h-6 w-28`}
          value={tags}
          onChange={(e) => setTags(e.target.value)}
        />
      </div>
      <div className="flex gap-1.5 [&>button]:flex-1">
        <Tip text="As it is seen at now: of the selected joints, or of all">
          <Button onClick={() => void keep([transport.frame, transport.frame])}>
            Keep the pose
          </Button>
        </Tip>
        <Tip text="As it is seen in the range of the strip">
          <Button onClick={() => void keep(rangeSet())}>Keep the motion</Button>
        </Tip>
      </div>
    </div>
  )
}

function Take({ stored }: { stored: Stored }) {
  const [share, setShare] = useState(1)
  const [mirrored, setMirrored] = useState(false)
  const selected = useBench((s) => s.joints.length)
  const take = (part: number, keep: boolean) => void takePose(stored, part, mirrored, keep)
  if (stored.frames > 1)
    return (
      <div className="flex items-center justify-between gap-2 text-ink-2">
        {counted(stored.frames, 'frame')}
        <Button onClick={() => useOpenCard.setState({ open: 'load_layer', at: null })}>
          Load onto a layer
        </Button>
      </div>
    )
  return (
    <div className="flex flex-col gap-1.5">
      <Slider
        label="Share of the pose"
        shown={`${Math.round(100 * share)} %`}
        value={[share]}
        min={0}
        max={1}
        step={0.01}
        onValueChange={([part]) => {
          setShare(part!)
          take(part!, false)
        }}
        onValueCommit={([part]) => take(part!, true)}
        typed={(part) => {
          setShare(part)
          take(part, true)
        }}
      />
      <div className="flex items-center justify-between gap-2">
        <Check on={mirrored} onChange={setMirrored}>
          mirrored
        </Check>
        <Button kind="primary" onClick={() => take(share, true)}>
          {selected ? `Pose ${counted(selected, 'joint')}` : 'Pose its joints'}
        </Button>
      </div>
    </div>
  )
}

export function StoredPart({ clip }: { clip: Clip }) {
  const queries = useQueryClient()
  const all = useStored(clip.workspace).data ?? []
  const [word, setWord] = useState('')
  const [chosen, setChosen] = useState<number | null>(null)
  const again = () => void queries.invalidateQueries({ queryKey: ['stored', clip.workspace] })
  const shown = all.filter((s) => has(s, word))
  const one = shown.find((s) => s.id === chosen)
  const forget = async (stored: Stored) => {
    try {
      await answer(
        client.DELETE('/api/stored/{stored_id}', { params: { path: { stored_id: stored.id } } }),
      )
      notify(`${stored.name} is in the bin.`)
    } catch (trouble) {
      notify(textOf(trouble))
    }
    again()
  }
  return (
    <section aria-label="Stored poses" className="flex flex-col gap-2 border-rule border-b pb-3">
      <h3 className="font-semibold">Stored poses and motions</h3>
      {all.length > 4 && (
        <input
          aria-label="Find what is stored"
          placeholder="find by name or word"
          className={`${inputLook} h-6`}
          value={word}
          onChange={(e) => setWord(e.target.value)}
        />
      )}
      {all.length === 0 && (
        <p className="text-ink-2">
          Keep a pose, or a range as a motion: all clips of this workspace can take it, on any
          skeleton.
        </p>
      )}
      {shown.length > 0 && (
        <ul className="grid max-h-64 grid-cols-3 gap-1.5 overflow-y-auto">
          {shown.map((stored) => (
            <li key={stored.id}>
              <button
                type="button"
                aria-pressed={stored.id === chosen}
                title={[stored.name, ...stored.tags].join(', ')}
                className={`flex w-full flex-col overflow-hidden rounded-[4px] border text-left text-[12px] ${stored.id === chosen ? 'border-signal' : 'border-rule-2'}`}
                onClick={() => {
                  beginAnew()
                  setChosen(stored.id === chosen ? null : stored.id)
                }}
              >
                <Picture picture={stored.picture} className="h-16" />
                <span className="w-full truncate border-rule border-t px-1">{stored.name}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {one && (
        <>
          <div className="flex items-center justify-between gap-2">
            <b className="min-w-0 truncate">{one.name}</b>
            <Button onClick={() => void forget(one)}>Delete</Button>
          </div>
          <Take key={one.id} stored={one} />
        </>
      )}
      <Keep
        onKept={(kept) => {
          setChosen(kept.id)
          again()
        }}
      />
    </section>
  )
}
