/** What the server can do and find: operations with their parameters, kinds of findings. */
import { create } from 'zustand'
import { answer, client, type Schemas } from '../api/client'

export type Kind = Schemas['KindOut']
export type Operation = Schemas['OperationOut']

export const useCatalogue = create<{ kinds: Kind[]; operations: Operation[] }>(() => ({
  kinds: [],
  operations: [],
}))

/** Fetched once: it changes only with the server. */
export async function loadCatalogue(): Promise<void> {
  if (useCatalogue.getState().kinds.length) return
  const [kinds, operations] = await Promise.all([
    answer(client.GET('/api/findings/kinds')),
    answer(client.GET('/api/operations')),
  ])
  useCatalogue.setState({ kinds, operations })
}

export const kindNamed = (name: string): Kind | undefined =>
  useCatalogue.getState().kinds.find((k) => k.name === name)

/** What an operation is called; its own name until the catalogue is here. */
export const titleOf = (operation: string): string =>
  useCatalogue.getState().operations.find((o) => o.name === operation)?.title ?? operation
