/** `?`: every command with its key; a key can be given another command. */
import { useEffect, useState } from 'react'
import { prefer, useSession } from '../session/session'
import { Button, Dialog } from '../ui/controls'
import { useOverlay } from '../view/overlay'
import type { Command } from './command'
import { boundKey, commandOf, keyOf, shownKey } from './keys'
import { COMMANDS } from './table'

export function KeyHelp() {
  const open = useOverlay((s) => s.shown === 'keys')
  const own = useSession((s) => s.preferences.keys)
  const [waiting, setWaiting] = useState<string | null>(null)
  const [taken, setTaken] = useState<string | null>(null)

  useEffect(() => {
    if (!waiting) return
    const listen = (event: KeyboardEvent) => {
      if (['Control', 'Shift', 'Alt', 'Meta'].includes(event.key)) return
      event.preventDefault()
      event.stopPropagation()
      setWaiting(null)
      if (event.key === 'Escape') return
      const key = keyOf(event)
      const other = commandOf(key, own)
      if (other && other.id !== waiting) {
        setTaken(`${shownKey(key)} is the key of “${other.title}”. Give that another key first.`)
        return
      }
      setTaken(null)
      prefer({ keys: { ...own, [waiting]: key } })
    }
    addEventListener('keydown', listen, { capture: true })
    return () => removeEventListener('keydown', listen, { capture: true })
  }, [waiting, own])

  const groups = [...new Set(COMMANDS.map((c) => c.group))]
  const close = () => {
    setWaiting(null)
    setTaken(null)
    useOverlay.setState({ shown: 'none' })
  }
  return (
    <Dialog open={open} onClose={close} title="Keyboard" wide>
      <div className="columns-2 gap-6 overflow-y-auto p-4">
        {groups.map((group) => (
          <section key={group} className="mb-3 break-inside-avoid">
            <h3 className="mb-1 font-semibold text-ink-2">{group}</h3>
            {COMMANDS.filter((c) => c.group === group).map((c) => (
              <KeyRow
                key={c.id}
                command={c}
                shown={waiting === c.id ? 'press a key' : shownKey(boundKey(c, own))}
                onAsk={() => setWaiting(c.id)}
              />
            ))}
          </section>
        ))}
      </div>
      <div className="flex items-center gap-2 border-rule border-t px-4 py-3">
        <p role="status" className="flex-1 text-ink-2">
          {taken ?? 'Click a key to change it. Ctrl is Command on a Mac.'}
        </p>
        <Button
          disabled={Object.keys(own).length === 0}
          onClick={() => {
            setTaken(null)
            prefer({ keys: {} })
          }}
        >
          All keys as they were
        </Button>
        <Button onClick={close}>Close</Button>
      </div>
    </Dialog>
  )
}

function KeyRow({ command, shown, onAsk }: { command: Command; shown: string; onAsk: () => void }) {
  return (
    <div className="flex items-center justify-between gap-2 border-rule border-b py-0.5">
      <span>{command.title}</span>
      <button
        type="button"
        aria-label={`Key of ${command.title}: ${shown}`}
        className="num h-6 rounded-[3px] border border-transparent px-1.5 hover:border-rule-2"
        onClick={onAsk}
      >
        {shown}
      </button>
    </div>
  )
}
