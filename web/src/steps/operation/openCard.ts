/** Which operation's card is open in a step's panel: one at a time. */
import { create } from 'zustand'

export const useOpenCard = create<{ open: string | null }>(() => ({ open: null }))
