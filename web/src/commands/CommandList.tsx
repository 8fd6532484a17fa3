/** Ctrl+K: every command, found by typing. */
import { useMemo, useState } from 'react'
import { useSession } from '../session/session'
import { useCatalogue } from '../sync/catalogue'
import { Dialog, inputLook } from '../ui/controls'
import { useOverlay } from '../view/overlay'
import type { Command } from './command'
import { boundKey, shownKey } from './keys'
import { operationCommands } from './panelCommands'
import { COMMANDS } from './table'

const says = (command: Command, wanted: string) => command.title.toLowerCase().includes(wanted)

export function CommandList() {
  const open = useOverlay((s) => s.shown === 'commands')
  const own = useSession((s) => s.preferences.keys)
  const [search, setSearch] = useState('')
  const [at, setAt] = useState(0)
  const wanted = search.trim().toLowerCase()
  const operations = useCatalogue((s) => s.operations)
  const all = useMemo(() => [...COMMANDS, ...operationCommands(operations)], [operations])
  // Words in any order: "layer new" finds New layer.
  const found = all.filter((c) => {
    const text = `${c.group} ${c.title}`.toLowerCase()
    return wanted.split(/\s+/).every((word) => text.includes(word))
  })
  // What is called just so comes first.
  found.sort((a, b) => Number(says(b, wanted)) - Number(says(a, wanted)))
  const close = () => {
    useOverlay.setState({ shown: 'none' })
    setSearch('')
    setAt(0)
  }
  const run = (index: number) => {
    const command = found[index]
    if (!command) return
    close()
    setTimeout(() => command.run(), 0)
  }
  return (
    <Dialog open={open} onClose={close} title="Commands">
      <div className="flex min-h-0 flex-col gap-2 p-3">
        <input
          autoFocus
          role="combobox"
          aria-expanded
          aria-controls="command-options"
          aria-activedescendant={found[at] ? `command-${found[at].id}` : undefined}
          aria-label="Find a command"
          placeholder="Find a command"
          className={`${inputLook} h-8`}
          value={search}
          onChange={(e) => {
            setSearch(e.target.value)
            setAt(0)
          }}
          onKeyDown={(e) => {
            const by = { ArrowDown: 1, ArrowUp: -1 }[e.key]
            if (by) {
              e.preventDefault()
              setAt((at + by + found.length) % Math.max(1, found.length))
            }
            if (e.key === 'Enter') run(at)
          }}
        />
        <div
          id="command-options"
          role="listbox"
          aria-label="Commands"
          className="min-h-0 overflow-y-auto"
        >
          {found.map((c, k) => (
            <div
              key={c.id}
              id={`command-${c.id}`}
              role="option"
              tabIndex={-1}
              aria-selected={k === at}
              ref={(e) => {
                if (k === at) e?.scrollIntoView({ block: 'nearest' })
              }}
              className={`flex cursor-pointer justify-between rounded-[3px] px-2 py-1 ${k === at ? 'bg-sunk' : ''}`}
              onPointerMove={() => setAt(k)}
              onClick={() => run(k)}
              onKeyDown={() => {}}
            >
              <span>
                <span className="text-ink-3">{c.group} · </span>
                {c.title}
              </span>
              <kbd className="num text-ink-2">{shownKey(boundKey(c, own))}</kbd>
            </div>
          ))}
          {found.length === 0 && <p className="px-2 py-3 text-ink-2">No command is called that.</p>}
        </div>
      </div>
    </Dialog>
  )
}
