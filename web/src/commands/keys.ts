/** From key presses to commands. A person's own keys come before the table's. */
import { useEffect } from 'react'
import { usePainting } from '../actions/painting'
import { useSession } from '../session/session'
import { takeBrush, useBrush } from '../sheet/brushState'
import { sheetRef } from '../sheet/SheetView'
import { handRef, meetHandRef, placeHandRef } from '../stage/refs'
import { review, useReview } from '../stage/review'
import { stripRef } from '../strip/StripView'
import { timingRef } from '../timing/TimingView'
import { clearKeys } from '../view/selection'
import type { Command } from './command'
import { COMMANDS } from './table'

/** A press as text: `Ctrl+Shift+Z`, `Space`, `?`. Command on a Mac counts as Ctrl. */
export function keyOf(event: KeyboardEvent): string {
  const { code, key } = event
  if (key === '?') return '?'
  const plain = /^Key[A-Z]$/.test(code)
    ? code.slice(3)
    : /^Digit\d$/.test(code)
      ? code.slice(5)
      : code === 'Space'
        ? 'Space'
        : key
  return [
    ...(event.ctrlKey || event.metaKey ? ['Ctrl'] : []),
    ...(event.altKey ? ['Alt'] : []),
    ...(event.shiftKey ? ['Shift'] : []),
    plain,
  ].join('+')
}

/** The key of a command: the person's, else the table's. */
export function boundKey(command: Command, own: Record<string, string>): string {
  return own[command.id] ?? command.key
}

export function commandOf(key: string, own: Record<string, string>): Command | undefined {
  return COMMANDS.find((c) => boundKey(c, own) === key)
}

/** Shown to people: arrows as arrows. */
export function shownKey(key: string): string {
  return key
    .replace('ArrowLeft', '←')
    .replace('ArrowRight', '→')
    .replace('ArrowUp', '↑')
    .replace('ArrowDown', '↓')
    .replaceAll('+', ' + ')
}

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable ||
    target.tagName === 'TEXTAREA' ||
    target.tagName === 'SELECT' ||
    (target.tagName === 'INPUT' && (target as HTMLInputElement).type !== 'checkbox'))

/** Keys belong to a control that uses them: sliders take arrows, buttons take Space. */
function usesKey(target: EventTarget | null, key: string): boolean {
  if (!(target instanceof HTMLElement)) return false
  const role = target.getAttribute('role')
  if (role === 'slider') return key.includes('Arrow')
  if (role?.startsWith('menu') || role === 'option') return true
  return key === 'Space' && target.matches('button, a, [role=checkbox], input')
}

/** Listen for the bench's keys while it is on screen. */
export function useKeys(): void {
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.defaultPrevented || document.querySelector('[role=dialog]')) return
      if (event.key === 'Escape') {
        // What is being dragged is put back; else nothing is selected any more.
        const held = [sheetRef, timingRef, stripRef, handRef, placeHandRef, meetHandRef].some(
          (ref) => ref.current?.cancel(),
        )
        if (!held && useReview.getState().on) review(false)
        if (held) event.preventDefault()
        else if (usePainting.getState().on) usePainting.setState({ on: false })
        else if (useBrush.getState().kind) takeBrush(null)
        else if (!typing(event.target)) clearKeys()
        return
      }
      const key = keyOf(event)
      if (typing(event.target) && !key.startsWith('Ctrl+K')) return
      if (usesKey(event.target, key)) return
      // Text that somebody has marked is copied as everywhere.
      if (key === 'Ctrl+C' && getSelection()?.toString()) return
      const command = commandOf(key, useSession.getState().preferences.keys)
      if (!command) return
      event.preventDefault()
      command.run()
    }
    addEventListener('keydown', listen)
    return () => removeEventListener('keydown', listen)
  }, [])
}
