/** Which of the commands' dialogs is open. */
import { create } from 'zustand'

export const useOverlay = create<{ shown: 'none' | 'commands' | 'keys' }>(() => ({ shown: 'none' }))
