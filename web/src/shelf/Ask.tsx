/** A question about what was chosen on the shelf: its parts, what went wrong, and off it goes. */
import { type ReactNode, useState } from 'react'
import { textOf } from '../api/client'
import { Button, Dialog } from '../ui/controls'

export function Ask({
  title,
  action,
  ready,
  onStart,
  onClose,
  children,
}: {
  title: string
  /** What the button says. */
  action: string
  /** Whether enough is chosen. */
  ready: boolean
  /** What is then done; it may be refused. */
  onStart: () => Promise<void> | void
  onClose: () => void
  children: ReactNode
}) {
  const [trouble, setTrouble] = useState('')
  const start = async () => {
    try {
      await onStart()
    } catch (reason) {
      setTrouble(textOf(reason))
    }
  }
  return (
    <Dialog open onClose={onClose} title={title}>
      <div className="flex flex-col gap-3 overflow-y-auto px-4 py-3">
        {children}
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble}
          </p>
        )}
      </div>
      <div className="flex gap-2 border-rule border-t px-4 py-3 [&>button]:h-8 [&>button]:flex-1">
        <Button onClick={onClose}>Not now</Button>
        <Button kind="primary" disabled={!ready} onClick={() => void start()}>
          {action}
        </Button>
      </div>
    </Dialog>
  )
}
