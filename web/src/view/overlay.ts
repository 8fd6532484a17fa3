/** Which of the commands' dialogs is open. */
import { create } from 'zustand'

/** Whether the context menu was asked for on a key: it then holds what is done to keys. */
export const useAsked = create<{ onKey: boolean }>(() => ({ onKey: false }))

export const useOverlay = create<{ shown: 'none' | 'commands' | 'keys' }>(() => ({ shown: 'none' }))
