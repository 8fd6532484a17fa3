/** The commands of what is under the pointer, in a context menu. */
import { ContextMenu as M } from 'radix-ui'
import { Fragment, type ReactNode } from 'react'
import { useSession } from '../session/session'
import { boundKey, shownKey } from './keys'
import { COMMANDS, type Command } from './table'

export function BenchMenu({
  groups,
  children,
}: {
  groups: readonly Command['group'][]
  children: ReactNode
}) {
  const own = useSession((s) => s.preferences.keys)
  return (
    <M.Root>
      <M.Trigger asChild>{children}</M.Trigger>
      <M.Portal>
        <M.Content className="z-50 max-h-(--radix-context-menu-content-available-height) min-w-56 overflow-y-auto rounded-md border border-rule-2 bg-raised p-1 shadow-lg">
          {groups.map((group, k) => (
            <Fragment key={group}>
              {k > 0 && <M.Separator className="my-1 border-rule border-t" />}
              <M.Label className="px-2 py-0.5 text-[11px] text-ink-3">{group}</M.Label>
              {COMMANDS.filter((c) => c.group === group).map((c) => (
                <M.Item
                  key={c.id}
                  onSelect={() => c.run()}
                  className="flex cursor-pointer justify-between gap-6 rounded-[3px] px-2 py-0.5 outline-none data-highlighted:bg-sunk"
                >
                  {c.title}
                  <span className="num text-ink-3">{shownKey(boundKey(c, own))}</span>
                </M.Item>
              ))}
            </Fragment>
          ))}
        </M.Content>
      </M.Portal>
    </M.Root>
  )
}
