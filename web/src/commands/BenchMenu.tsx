/** The commands of what is under the pointer, in a context menu. */
import { ContextMenu as M } from 'radix-ui'
import { Fragment, type ReactNode } from 'react'
import { HANDLES } from '../evaluation/curves'
import { useSession } from '../session/session'
import { counted } from '../ui/numbers'
import { useAsked } from '../view/overlay'
import { countKeys, useSelection } from '../view/selection'
import type { Command } from './command'
import { boundKey, shownKey } from './keys'
import { COMMANDS } from './table'

/** What is done to keys, in the order of a hand's use: the menu of a key. */
const OF_KEYS: readonly (readonly string[])[] = [
  ['delete', 'cut', 'copy', 'paste'],
  ['type-frame', 'type-value', 'refit'],
  HANDLES.map((name) => `handle-${name}`),
  ['ride', 'mute-keys'],
  ['along', 'these-times', 'isolate'],
]

const named = (id: string): Command => COMMANDS.find((c) => c.id === id)!

export function BenchMenu({
  groups,
  children,
}: {
  groups: readonly Command['group'][]
  children: ReactNode
}) {
  const own = useSession((s) => s.preferences.keys)
  const onKey = useAsked((s) => s.onKey)
  const count = countKeys(useSelection((s) => s.keys))
  const parts = onKey
    ? OF_KEYS.map((ids, k) => ({
        title: k === 0 ? counted(count, 'key') : '',
        commands: ids.map(named),
      }))
    : groups.map((group) => ({
        title: group as string,
        commands: COMMANDS.filter((c) => c.group === group),
      }))
  return (
    <M.Root
      modal={false}
      onOpenChange={(open) => {
        if (!open) useAsked.setState({ onKey: false })
      }}
    >
      <M.Trigger asChild>{children}</M.Trigger>
      <M.Portal container={document.querySelector('main')}>
        <M.Content className="z-50 max-h-(--radix-context-menu-content-available-height) min-w-56 overflow-y-auto rounded-md border border-rule-2 bg-raised p-1 shadow-lg">
          {parts.map(({ title, commands }, k) => (
            <Fragment key={commands[0]!.id}>
              {k > 0 && <M.Separator className="my-1 border-rule border-t" />}
              {title && <M.Label className="px-2 py-0.5 text-[11px] text-ink-3">{title}</M.Label>}
              {commands.map((c) => (
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
