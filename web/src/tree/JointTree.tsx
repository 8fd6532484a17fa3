/** Joints and channels as a tree: selects what the sheet shows. */
import { ChevronDown, ChevronRight } from 'lucide-react'
import { useEffect, useMemo, useRef, useState } from 'react'
import { selectChannels, selectJoints, useBench } from '../clip/bench'
import { axisOf, channelKey } from '../clip/curves'
import { inputLook } from '../ui/controls'

export function JointTree() {
  const clip = useBench((s) => s.clip)
  const joints = useBench((s) => s.joints)
  const channels = useBench((s) => s.channels)
  const findings = useBench((s) => s.findings)
  const body = useBench((s) => s.body)
  const [search, setSearch] = useState('')
  const [closed, setClosed] = useState<ReadonlySet<number>>(new Set())
  const list = useRef<HTMLDivElement>(null)

  const counts = useMemo(() => {
    const out = new Map<string, number>()
    for (const f of findings ?? [])
      if (!f.accepted && f.kind !== 'idle') out.set(f.joint, (out.get(f.joint) ?? 0) + 1)
    return out
  }, [findings])

  useEffect(() => {
    list.current?.querySelector(`[data-joint="${joints[0]}"]`)?.scrollIntoView({ block: 'nearest' })
  }, [joints])

  if (!clip) return <div className="w-[200px] border-rule border-r bg-raised" />
  const wanted = search.trim().toLowerCase()
  const chosen = new Set(joints)

  const pick = (joint: number, add: boolean) => {
    if (!add) return selectJoints([joint])
    const now = useBench.getState().joints
    selectJoints(now.includes(joint) ? now.filter((j) => j !== joint) : [...now, joint])
  }

  const pickChannel = (joint: number, channel: string, add: boolean) => {
    const key = channelKey(joint, channel)
    if (!add) return selectChannels([key])
    const now = useBench.getState().channels
    selectChannels(now.includes(key) ? now.filter((c) => c !== key) : [...now, key])
  }

  return (
    <section
      aria-label="Joints and channels"
      className="flex w-[200px] shrink-0 flex-col border-rule border-r bg-raised"
    >
      <div className="p-1.5">
        <input
          type="search"
          placeholder="Find a joint"
          aria-label="Find a joint"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          className={`${inputLook} h-6 w-full placeholder:text-ink-3`}
        />
      </div>
      <div
        ref={list}
        role="tree"
        aria-label="Joints"
        className="min-h-0 flex-1 overflow-y-auto text-[12px]"
      >
        {clip.joints.map((joint, j) => {
          if (wanted && !joint.name.toLowerCase().includes(wanted)) return null
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
                className={`flex h-6 w-full cursor-pointer items-center gap-1 px-1.5 text-left hover:bg-sunk ${on ? 'bg-sunk font-semibold' : ''}`}
                onClick={(e) => {
                  if (on && joints.length === 1 && !e.shiftKey && !channels.length) {
                    const next = new Set(closed)
                    if (!next.delete(j)) next.add(j)
                    setClosed(next)
                  } else pick(j, e.shiftKey || e.ctrlKey || e.metaKey)
                }}
                onKeyDown={(e) => {
                  const by = { ArrowDown: 1, ArrowUp: -1 }[e.key]
                  if (by) {
                    e.preventDefault()
                    e.stopPropagation()
                    const rows = [...list.current!.querySelectorAll<HTMLElement>('[data-joint]')]
                    const next = rows[rows.indexOf(e.currentTarget) + by]
                    if (next) {
                      pick(Number(next.dataset.joint), e.shiftKey)
                      next.focus()
                    }
                  }
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
                    const key = channelKey(j, channel)
                    const axis = axisOf(key)
                    const shown = channels.includes(key)
                    const choose = (e: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) =>
                      pickChannel(j, channel, e.shiftKey || e.ctrlKey || e.metaKey)
                    return (
                      <div
                        role="treeitem"
                        key={channel}
                        tabIndex={0}
                        aria-level={2}
                        aria-selected={shown}
                        className={`flex h-6 w-full cursor-pointer items-center gap-2 pr-2 pl-6 hover:bg-raised ${shown ? 'bg-sunk font-semibold' : ''}`}
                        onClick={choose}
                        onKeyDown={(e) => {
                          if (e.key === 'Enter') choose(e)
                        }}
                      >
                        <span className="num font-semibold" style={{ color: `var(--${axis})` }}>
                          {axis.toUpperCase()}
                        </span>
                        <span>
                          {channel[0] === 'r' ? 'turn' : 'move'} {axis.toUpperCase()}
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
    </section>
  )
}
