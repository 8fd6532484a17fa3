// @vitest-environment happy-dom
import { expect, test } from 'vitest'
import { toldOf } from './company'

const step = (author: string, cause: string, number: number) => ({
  author,
  cause,
  number,
  created: '2026-01-01T00:00:00Z',
})

test('somebody’s change is told with whose and what it is', () => {
  expect(toldOf([step('bosun', 'Thin', 4)], 'mate')).toBe('Bosun: Thin (revision 4)')
  expect(toldOf([step('bosun', 'Thin', 4), step('cook', 'Smooth', 5)], 'mate')).toBe(
    'Bosun and cook: 2 changes, the last Smooth (revision 5)',
  )
  expect(toldOf([step('mate', 'Thin', 4)], 'mate')).toBe('You, elsewhere: Thin (revision 4)')
  expect(toldOf([], 'mate')).toBe('The clip was taken back to another revision.')
})
