// @vitest-environment happy-dom
import { describe, expect, it } from 'vitest'
import { boundKey, commandOf, keyOf, shownKey } from './keys'
import { COMMANDS } from './table'

const press = (code: string, key: string, modifiers: Partial<KeyboardEventInit> = {}) =>
  keyOf(new KeyboardEvent('keydown', { code, key, ...modifiers }))

describe('keys and commands', () => {
  it('no two commands share a key or a name', () => {
    const bound = COMMANDS.filter((c) => c.key)
    expect(new Set(bound.map((c) => c.key)).size).toBe(bound.length)
    expect(new Set(COMMANDS.map((c) => c.id)).size).toBe(COMMANDS.length)
    expect(new Set(COMMANDS.map((c) => c.title)).size).toBe(COMMANDS.length)
  })

  it('presses read the same on every layout and system', () => {
    expect(press('KeyZ', 'z', { ctrlKey: true })).toBe('Ctrl+Z')
    expect(press('KeyZ', 'Z', { metaKey: true, shiftKey: true })).toBe('Ctrl+Shift+Z')
    expect(press('Space', ' ')).toBe('Space')
    expect(press('Digit4', '$', { shiftKey: true })).toBe('Shift+4')
    expect(press('Minus', '?', { shiftKey: true })).toBe('?')
    expect(press('ArrowLeft', 'ArrowLeft')).toBe('ArrowLeft')
  })

  it('a person’s own key comes before the table’s', () => {
    const play = COMMANDS.find((c) => c.id === 'play')!
    expect(boundKey(play, {})).toBe('Space')
    expect(commandOf('K', { play: 'K' })).toBe(play)
    expect(commandOf('Space', { play: 'K' })).toBeUndefined()
  })

  it('arrows are shown as arrows', () => {
    expect(shownKey('Shift+ArrowLeft')).toBe('Shift + ←')
  })
})
