/** The window's size, followed. */
import { useSyncExternalStore } from 'react'

const listen = (told: () => void) => {
  window.addEventListener('resize', told)
  return () => window.removeEventListener('resize', told)
}

export function useWindow(): { innerWidth: number; innerHeight: number } {
  const innerWidth = useSyncExternalStore(listen, () => window.innerWidth)
  const innerHeight = useSyncExternalStore(listen, () => window.innerHeight)
  return { innerWidth, innerHeight }
}
