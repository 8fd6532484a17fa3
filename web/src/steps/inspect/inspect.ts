/** What the Inspect panel shows: kept while other steps are open. */
import { create } from 'zustand'

export type Order = 'frame' | 'size' | 'joint' | 'kind'

export const useInspect = create<{
  tab: 'findings' | 'contacts' | 'body'
  /** The kind that is listed; all kinds when absent. */
  kind: string | null
  order: Order
  accepted: boolean
}>(() => ({ tab: 'findings', kind: null, order: 'kind', accepted: false }))
