/** Something that is asked of the server by a button: whether it goes on, and what went wrong. */
import { useState } from 'react'
import { textOf } from '../api/client'

export function useDoing() {
  const [busy, setBusy] = useState(false)
  const [trouble, setTrouble] = useState('')
  const doing = async (what: () => Promise<void>) => {
    setBusy(true)
    setTrouble('')
    try {
      await what()
    } catch (error) {
      setTrouble(textOf(error))
    } finally {
      setBusy(false)
    }
  }
  return { busy, trouble, doing }
}
