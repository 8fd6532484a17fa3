/** The frame of every step's panel: what it is for, its parts, and its one primary action. */
import type { ReactNode } from 'react'

export function Panel({
  title,
  lead,
  children,
  actions,
}: {
  title: string
  lead: string
  children: ReactNode
  actions?: ReactNode
}) {
  return (
    <div data-panel className="flex min-h-0 flex-1 flex-col">
      <div className="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto px-4 pt-3 pb-4">
        <div>
          <h2 className="font-semibold text-[16px]">{title}</h2>
          <p className="mt-1 text-ink-2">{lead}</p>
        </div>
        {children}
      </div>
      {actions && (
        <div className="flex gap-2 border-rule border-t px-4 py-3 [&>button]:h-8 [&>button]:flex-1">
          {actions}
        </div>
      )}
    </div>
  )
}

export function Trouble({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="rounded-[3px] border border-bad px-2.5 py-1.5 text-bad">
      {children}
    </p>
  )
}

export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="flex flex-col gap-2">
      <h3 className="font-semibold text-ink-2">{title}</h3>
      {children}
    </section>
  )
}
