/** The search for the fewest keys: work ahead of the write that thins. */
import { commitThin, type ThinParams } from '../../actions/thinning'
import type { Scope } from '../../evaluation/model'
import { useAhead } from '../../sync/ahead'

interface Search {
  params: ThinParams
  scope: Scope
  /** The line that is changed; else one is appended. */
  line: string | null
}

export function useFewest() {
  const { begin, cancel, ...state } = useAhead<Search>(
    'search',
    ({ params, scope, line }) => void commitThin(params, scope, line),
  )
  return {
    ...state,
    begin: (params: ThinParams, scope: Scope, line: string | null) =>
      begin(
        { line: { operation: 'thin', params: { ...params }, scope }, in_place_of: line },
        { params, scope, line },
      ),
    cancel: () => cancel('The search was stopped; nothing has changed.'),
  }
}
