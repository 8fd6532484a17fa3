/** Joints and channels as a tree: selects what the sheet shows. */
import { ChevronDown, ChevronRight, Eye, EyeOff, Pin, Volume2, VolumeX } from 'lucide-react'
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from 'react'
import { selectChannels, selectJoints } from '../actions/choose'
import { axisOf, channelKey, channelTitle } from '../evaluation/curves'
import { Button, Check, inputLook, Popover, Toggle } from '../ui/controls'
import { counted } from '../ui/numbers'
import { useBench } from '../view/bench'
import { shownChannels } from '../view/shown'
import { toggleHidden, toggleMuted, togglePinned, useViewing } from '../view/viewing'
import { PropRows } from './PropRows'

/** Words that ask for channels, not for joints. */
const CHANNEL_WORDS = new Set(['x', 'y', 'z', 'turn', 'move'])
const KIND_WORDS: Record<string, string> = { turn: 'r', move: 't' }

/** Which keys are held with a press: Shift for a range, Ctrl or Cmd for one more or less. */
interface Held {
  shiftKey: boolean
  ctrlKey: boolean
  metaKey: boolean
}

const ALONE: Held = { shiftKey: false, ctrlKey: false, metaKey: false }

/** Letters typed within this of each other spell one name, ms. */
const SPELL = 700

/** A small switch in a channel's row: shown while the row is hovered, or on. */
function Switch({
  label,
  on,
  onClick,
  icons: [Off, On],
}: {
  label: string
  on: boolean
  onClick: () => void
  icons: [typeof Eye, typeof Eye]
}) {
  const Icon = on ? On : Off
  return (
    <button
      type="button"
      aria-label={label}
      aria-pressed={on}
      title={label}
      className={`grid size-6 place-items-center rounded-[3px] hover:bg-paper focus-visible:opacity-100 group-hover:opacity-100 ${on ? 'text-signal' : 'text-ink-3 opacity-0'}`}
      onClick={(e) => {
        e.stopPropagation()
        onClick()
      }}
    >
      <Icon size={12} />
    </button>
  )
}

export function JointTree() {
  const clip = useBench((s) => s.clip)
  const joints = useBench((s) => s.joints)
  const channels = useBench((s) => s.channels)
  const findings = useBench((s) => s.findings)
  const body = useBench((s) => s.body)
  const pinned = useViewing((s) => s.pinned)
  const hidden = useViewing((s) => s.hidden)
  const muted = useViewing((s) => s.muted)
  const [search, setSearch] = useState('')
  const [moving, setMoving] = useState(false)
  const [found, setFound] = useState(false)
  const [closed, setClosed] = useState<ReadonlySet<number>>(new Set())
  const list = useRef<HTMLDivElement>(null)
  /** The joint picked last by itself: a range begins there. */
  const anchor = useRef<number | null>(null)
  const typed = useRef({ text: '', at: 0 })
  /** The tree was entered by keyboard: from the field above it, or by Tab. */
  const byKeys = useRef(false)
  const pressed = useRef(false)

  const counts = useMemo(() => {
    const out = new Map<string, number>()
    for (const f of findings ?? [])
      if (!f.accepted && f.kind !== 'idle') out.set(f.joint, (out.get(f.joint) ?? 0) + 1)
    return out
  }, [findings])

  useEffect(() => {
    list.current?.querySelector(`[data-joint="${joints[0]}"]`)?.scrollIntoView({ block: 'nearest' })
  }, [joints])

  if (!clip) return <div className="flex-1 border-rule border-r bg-raised" />
  // "hand turn y" asks for joints with "hand", and of those for the channel.
  const words = search.trim().toLowerCase().split(/\s+/)
  const asked = words.filter((w) => !CHANNEL_WORDS.has(w)).join(' ')
  const groups = Object.entries({ ...body?.groups, ...body?.own_groups })
  // What is typed may be a part of the body: "left arm".
  const parts = asked ? groups.filter(([name]) => name.toLowerCase().includes(asked)) : []
  const channelAsked = words.filter((w) => CHANNEL_WORDS.has(w))
  const chosen = new Set(joints)
  const idle = new Set(
    (findings ?? []).filter((f) => f.kind === 'idle').map((f) => `${f.joint} ${f.channel}`),
  )
  const seen = (joint: (typeof clip.joints)[number], channel: string) =>
    channelAsked.every((w) => channel[1] === w || (KIND_WORDS[w] ?? '') === channel[0]) &&
    !(moving && idle.has(`${joint.name} ${channel}`))

  /** A joint alone, one more or less of them, or all rows from the one picked last. */
  const pick = (joint: number, how: Held) => {
    const now = useBench.getState().joints
    if (how.shiftKey) {
      const listed = rows().flatMap((r) => (r.dataset.joint ? [Number(r.dataset.joint)] : []))
      const from = listed.indexOf(anchor.current ?? now[0] ?? joint)
      const to = listed.indexOf(joint)
      const [a, b] = from < 0 ? [to, to] : [Math.min(from, to), Math.max(from, to)]
      return selectJoints(listed.slice(a, b + 1))
    }
    anchor.current = joint
    if (!how.ctrlKey && !how.metaKey) return selectJoints([joint])
    selectJoints(now.includes(joint) ? now.filter((j) => j !== joint) : [...now, joint])
  }

  const pickChannel = (joint: number, channel: string, how: Held) => {
    const key = channelKey(joint, channel)
    const { joints: chosenNow, channels: now } = useBench.getState()
    if (!how.shiftKey && !how.ctrlKey && !how.metaKey) {
      // Joints that are open stay open: the row that was pressed stays where it is.
      const others = chosenNow.includes(joint) ? chosenNow.filter((j) => j !== joint) : []
      return selectJoints([joint, ...others], [key])
    }
    selectChannels(now.includes(key) ? now.filter((c) => c !== key) : [...now, key])
  }

  const rows = () => [...(list.current?.querySelectorAll<HTMLElement>('[role=treeitem]') ?? [])]

  /** Select a joint's row and put the keyboard on it. */
  const enter = (row: HTMLElement | undefined, how = ALONE) => {
    if (!row) return
    if (row.dataset.joint) pick(Number(row.dataset.joint), how)
    row.focus()
  }

  const fold = (joint: number, shut: boolean) => {
    const next = new Set(closed)
    if (shut) next.add(joint)
    else next.delete(joint)
    setClosed(next)
  }

  /** The next joint whose name begins with what is typed: a letter alone goes on from the next
   * row, letters in a row spell a name from this one on. */
  const spelled = (letter: string, from: HTMLElement | undefined) => {
    const begun = performance.now() - typed.current.at < SPELL ? typed.current.text : ''
    const text = begun + letter.toLowerCase()
    typed.current = { text, at: performance.now() }
    const names = rows().filter((r) => r.dataset.joint)
    const after = (from ? names.indexOf(from) : -1) + (text.length > 1 ? 0 : 1)
    return [...names.slice(after), ...names.slice(0, after)].find((r) =>
      clip.joints[Number(r.dataset.joint)]!.name.toLowerCase().startsWith(text),
    )
  }

  /** Keys of the tree: arrows walk and fold, letters go to the next joint that begins so. */
  const walk = (event: KeyboardEvent<HTMLDivElement>) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return
    const row = event.currentTarget
    if (row !== event.target) return
    // Whoever picked a joint with the pointer has the bench's keys: letters run commands.
    if (!byKeys.current && !['ArrowDown', 'ArrowUp', 'Enter'].includes(event.key)) return
    const all = rows()
    const at = all.indexOf(row)
    const joint = row.dataset.joint === undefined ? null : Number(row.dataset.joint)
    const owner = all.slice(0, at).findLast((r) => r.dataset.joint)
    switch (event.key) {
      case 'ArrowDown':
        enter(all[at + 1], event)
        break
      case 'ArrowUp':
        enter(all[at - 1], event)
        break
      case 'Home':
        enter(all[0])
        break
      case 'End':
        enter(all.at(-1))
        break
      case 'Enter':
        row.click()
        break
      case 'ArrowRight':
        if (joint === null) break
        if (chosen.has(joint) && !closed.has(joint)) all[at + 1]?.focus()
        else {
          fold(joint, false)
          if (!chosen.has(joint)) pick(joint, ALONE)
        }
        break
      case 'ArrowLeft':
        if (joint === null) owner?.focus()
        else if (chosen.has(joint)) fold(joint, true)
        break
      default:
        if (event.key.length > 1 || event.key === ' ') return
        enter(spelled(event.key, row.dataset.joint ? row : owner))
    }
    event.preventDefault()
    event.stopPropagation()
  }

  return (
    <section
      aria-label="Joints and channels"
      className="flex min-w-0 flex-1 flex-col border-rule border-r bg-raised"
    >
      <div className="flex gap-1 p-1">
        <input
          type="search"
          placeholder="Find: hand turn y"
          aria-label="Find a joint"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === 'Enter' || e.key === 'ArrowDown') {
              byKeys.current = true
              if (!rows().length && parts[0]) selectJoints(parts[0][1])
              else enter(rows()[0])
            } else if (e.key === 'Escape' && search) setSearch('')
            else return
            e.preventDefault()
          }}
          className={`${inputLook} h-6 min-w-0 flex-1 px-1.5 placeholder:text-ink-3`}
        />
        <Popover
          name="Groups"
          trigger={
            <Button
              kind={moving || found ? 'on' : 'plain'}
              aria-label="Which joints are listed"
              className="px-1"
            >
              <ChevronDown size={13} />
            </Button>
          }
        >
          <div className="flex w-52 flex-col gap-1">
            <Check on={moving} onChange={setMoving}>
              Only channels that move
            </Check>
            <Check on={found} onChange={setFound}>
              Only with findings
            </Check>
            <span className="mt-1 text-ink-2">Select a part of the body</span>
            <div className="flex flex-wrap gap-1">
              {groups.map(([name, members]) => (
                <Button key={name} onClick={() => selectJoints(members)}>
                  {name}
                </Button>
              ))}
            </div>
          </div>
        </Popover>
        <Toggle
          on={pinned.length > 0}
          aria-label="Pin the shown channels"
          title={
            pinned.length
              ? `${counted(pinned.length, 'channel')} pinned: let them go`
              : 'Pin the shown channels'
          }
          className="px-1.5"
          onClick={() => togglePinned(shownChannels(useBench.getState()))}
        >
          <Pin size={12} />
        </Toggle>
      </div>
      {parts.length > 0 && (
        <div className="flex flex-wrap gap-1 px-1 pb-1">
          {parts.map(([name, members]) => (
            <Button key={name} onClick={() => selectJoints(members)}>
              {name}
            </Button>
          ))}
        </div>
      )}
      <div
        ref={list}
        role="tree"
        aria-label="Joints"
        aria-multiselectable
        onPointerDownCapture={() => {
          pressed.current = true
          byKeys.current = false
        }}
        onPointerUpCapture={() => {
          pressed.current = false
        }}
        onFocus={(e) => {
          if (!pressed.current && !e.currentTarget.contains(e.relatedTarget)) byKeys.current = true
        }}
        className="min-h-0 flex-1 select-none overflow-y-auto text-[12px]"
      >
        {clip.joints.map((joint, j) => {
          if (asked && !joint.name.toLowerCase().includes(asked)) return null
          if (found && !counts.has(joint.name)) return null
          if (moving && !joint.channels.some((c) => seen(joint, c))) return null
          const on = chosen.has(j)
          const open = on && !closed.has(j)
          const count = counts.get(joint.name)
          return (
            <div key={joint.name} role="none">
              <div
                role="treeitem"
                aria-selected={on}
                aria-expanded={open}
                aria-level={1}
                tabIndex={on || (joints.length === 0 && j === 0) ? 0 : -1}
                data-joint={j}
                onKeyDown={walk}
                className={`flex h-6 w-full cursor-pointer items-center gap-1 px-1.5 text-left hover:bg-sunk ${on ? 'bg-sunk font-semibold' : ''}`}
                onClick={(e) => {
                  if (on && joints.length === 1 && !e.shiftKey && !channels.length) {
                    const next = new Set(closed)
                    if (!next.delete(j)) next.add(j)
                    setClosed(next)
                  } else pick(j, e)
                }}
              >
                {open ? (
                  <ChevronDown size={12} />
                ) : (
                  <ChevronRight size={12} className="text-ink-3" />
                )}
                <span className="truncate" title={body?.joints[j]?.role}>
                  {joint.name}
                </span>
                {count !== undefined && (
                  <span className="num ml-auto text-bad" title={`${count} open findings`}>
                    {count}
                  </span>
                )}
              </div>
              {open && (
                // biome-ignore lint/a11y/useSemanticElements: a group of a tree, not of a form
                <div role="group">
                  {joint.channels.map((channel) => {
                    if (!seen(joint, channel)) return null
                    const key = channelKey(j, channel)
                    const axis = axisOf(key)
                    const shown = channels.includes(key)
                    const choose = (e: Held) => pickChannel(j, channel, e)
                    return (
                      <div
                        role="treeitem"
                        key={channel}
                        tabIndex={-1}
                        aria-level={2}
                        aria-label={channelTitle(channel)}
                        aria-selected={shown}
                        className={`group flex h-6 w-full cursor-pointer items-center gap-2 pr-1 pl-6 hover:bg-raised ${shown ? 'bg-sunk font-semibold' : ''}`}
                        onClick={choose}
                        onPointerEnter={() => useViewing.setState({ hovered: key })}
                        onPointerLeave={() => useViewing.setState({ hovered: null })}
                        onKeyDown={walk}
                      >
                        <span
                          data-axis={axis.toUpperCase()}
                          className="num font-semibold before:content-[attr(data-axis)]"
                          style={{ color: `var(--${axis})` }}
                        />
                        <span className={hidden.has(key) ? 'text-ink-3 line-through' : ''}>
                          {channelTitle(channel)}
                        </span>
                        <span className="ml-auto flex">
                          <Switch
                            label={`Play without ${joint.name} ${channel}`}
                            on={muted.has(key)}
                            onClick={() => toggleMuted([key])}
                            icons={[Volume2, VolumeX]}
                          />
                          <Switch
                            label={`Hide ${joint.name} ${channel}`}
                            on={hidden.has(key)}
                            onClick={() => toggleHidden([key])}
                            icons={[Eye, EyeOff]}
                          />
                        </span>
                      </div>
                    )
                  })}
                </div>
              )}
            </div>
          )
        })}
      </div>
      {clip.props.length > 0 && <PropRows props={clip.props} />}
    </section>
  )
}
