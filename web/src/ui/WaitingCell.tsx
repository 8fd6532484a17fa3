/** A row of a table of jobs that is not done: how far it is, or how it ended. */
export function WaitingCell({
  span,
  name,
  state,
  progress,
  message,
  told,
}: {
  span: number
  name: string
  state: 'queued' | 'running' | 'failed' | 'cancelled' | 'unchanged'
  progress: number
  message: string
  /** What a row says that was not made again. */
  told?: string
}) {
  const text = { queued: 'waiting', failed: message, cancelled: 'cancelled', unchanged: told }
  return (
    <td colSpan={span} className={state === 'failed' ? 'text-bad' : 'text-ink-2'}>
      {state === 'running' ? (
        <progress
          className="h-1.5 w-56 accent-[var(--calm)]"
          max={1}
          value={progress}
          aria-label={`Progress of ${name}`}
        />
      ) : (
        text[state]
      )}
    </td>
  )
}
