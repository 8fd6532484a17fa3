/** Which operation's card is open in a step's panel, one at a time, and the finding that led to it. */
import { create } from 'zustand'
import type { Finding } from '../evaluation/model'

export const useOpenCard = create<{ open: string | null; at: Finding | null }>(() => ({
  open: null,
  at: null,
}))
