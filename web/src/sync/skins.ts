/** Bodies of skeletons: each is fetched once, and stays for as long as the page does. */
import { useEffect, useState } from 'react'
import { numbers, type Schemas } from '../api/client'
import { Skin } from '../evaluation/skin'

const fetched = new Map<string, Promise<Skin>>()

function fetchSkin(workspace: number, digest: string): Promise<Skin> {
  const known = fetched.get(digest)
  if (known) return known
  const found = numbers(`/api/workspaces/${workspace}/skins/${digest}`).then((m) => new Skin(m))
  fetched.set(digest, found)
  // One that could not be had is asked for again the next time.
  found.catch(() => fetched.delete(digest))
  return found
}

/** The body of a skeleton; null where it has none, and until it is here. */
export function useSkin(
  workspace: number | undefined,
  told: Schemas['SkinOut'] | null | undefined,
): Skin | null {
  const digest = told?.digest
  const [skin, setSkin] = useState<{ digest: string; skin: Skin } | null>(null)
  useEffect(() => {
    if (!digest || workspace === undefined) return
    let wanted = true
    fetchSkin(workspace, digest)
      .then((found) => wanted && setSkin({ digest, skin: found }))
      // Without it the drawn figure stays.
      .catch(() => {})
    return () => {
      wanted = false
    }
  }, [workspace, digest])
  return digest && skin?.digest === digest ? skin.skin : null
}
