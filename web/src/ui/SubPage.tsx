/** A page beside the bench, led back from to the shelf: its title, what can be done, its parts. */
import type { ReactNode } from 'react'
import { Link } from 'react-router'

export function SubPage({
  title,
  actions,
  className,
  children,
}: {
  title: ReactNode
  actions?: ReactNode
  /** How its parts stand apart. */
  className: string
  children: ReactNode
}) {
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-10 shrink-0 items-center gap-3 border-rule-2 border-b bg-raised px-4">
        <span className="font-semibold">Lean Curve</span>
        <Link to="/" className="hover:underline">
          Shelf
        </Link>
        <span className="text-ink-3">›</span>
        <h1 className="font-semibold">{title}</h1>
        <span className="flex-1" />
        {actions}
      </header>
      <main className="min-h-0 flex-1 overflow-y-auto p-5">
        <div className={`mx-auto flex max-w-[1160px] flex-col ${className}`}>{children}</div>
      </main>
    </div>
  )
}
