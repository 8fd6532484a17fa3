/** Small changes in a row as one: lines that are appended, put together by their parameters. */
import type { Gather, Request } from './writes'

type Params = Record<string, unknown>
type Line = { params: Params }

const lineOf = (request: Request): Line =>
  (request as { what: Record<string, unknown> }).what.append as Line

/** Lines of one name are put together; `join` makes one of their parameters. */
export const gathering = <P extends object>(
  name: string,
  join: (first: P, next: P) => P,
): Gather => ({
  name,
  join: (first, next) => {
    const params = join(lineOf(first).params as P, lineOf(next).params as P)
    return { do: 'write', what: { append: { ...lineOf(first), params } } }
  },
})
