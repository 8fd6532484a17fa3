/** The API as the browser calls it: typed JSON, numeric messages, one error type. */
import createClient from 'openapi-fetch'
import { awaiting } from './awaited'
import { patientFetch } from './patience'
import { type Message, readMessage } from './safetensors'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** A refusal with the server's one clear sentence. `status` 0: the server could not be reached. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly body: Record<string, unknown> = {},
  ) {
    super(message)
  }
}

/** What went wrong, in words. */
export const textOf = (trouble: unknown): string =>
  trouble instanceof Error ? trouble.message : String(trouble)

export function csrfToken(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? ''
}

async function fetched(...args: Parameters<typeof fetch>): Promise<Response> {
  const done = awaiting()
  try {
    return await patientFetch(...args)
  } finally {
    done()
  }
}

export const client = createClient<paths>({
  fetch: (request) => {
    request.headers.set('X-CSRFToken', csrfToken())
    return fetched(request)
  },
})

function sentence(status: number, body: unknown): string {
  if (status === 404) return 'It is not here any more, or it is not yours to see.'
  const detail = (body as { detail?: unknown } | undefined)?.detail
  if (typeof detail === 'string') return detail
  if (Array.isArray(detail)) {
    const first = detail[0] as { loc?: unknown[]; msg?: string } | undefined
    return `${first?.loc?.at(-1) ?? 'input'}: ${first?.msg ?? 'not accepted'}`
  }
  return `The server answered with an error (${status}).`
}

/** The data of an answer, or an {@link ApiError}. */
export async function answer<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await call.catch((trouble: unknown) => {
    if (trouble instanceof DOMException) throw trouble
    throw new ApiError(0, 'The server cannot be reached.')
  })
  if (!response.ok) {
    throw new ApiError(
      response.status,
      sentence(response.status, error),
      (error as Record<string, unknown>) ?? {},
    )
  }
  return data as T
}

/** The clip of a take: one that nobody has worked on yet has it by this. */
export const clipOfTake = (take: number): Promise<Schemas['ClipOut']> =>
  answer(client.POST('/api/takes/{take_id}/clip', { params: { path: { take_id: take } } }))

/** What the numbers of revisions follow from, as the server told: an id means another revision once
 * a backup has been restored. */
const marks = new Map<number, string>()

/** The address of a clip's numbers at a revision. They never change while documents are evaluated as
 * they are now and follow from the same, both of which the address says: the browser keeps them for
 * a year. Those of a revision that the server did not tell of are asked for each time. */
export function addressOf(
  clip: Pick<Schemas['ClipOut'], 'id' | 'evaluation' | 'head'>,
  what: string,
  query: Record<string, string | number | undefined>,
): string {
  marks.set(clip.head.id, clip.head.mark)
  const given = Object.entries(query).filter(([, value]) => value !== undefined)
  const { revision, since } = query
  const named = [revision, since].filter((id) => id !== undefined)
  const known = named.map((id) => marks.get(Number(id)))
  const kept = known.every((mark) => mark !== undefined)
  const version = kept ? [['v', [clip.evaluation, ...known].join('.')] as const] : []
  const text = [...given, ...version].map(([name, value]) => `${name}=${value}`)
  return `/api/clips/${clip.id}/${what}?${text.join('&')}`
}

/** A numeric message from `path`; with `body` it is posted. */
export async function numbers(
  path: string,
  body?: unknown,
  signal?: AbortSignal,
): Promise<Message> {
  const response = await fetched(path, {
    ...(signal ? { signal } : {}),
    ...(body === undefined
      ? {}
      : {
          method: 'POST',
          headers: { 'Content-Type': 'application/json', 'X-CSRFToken': csrfToken() },
          body: JSON.stringify(body),
        }),
  }).catch((trouble: unknown) => {
    if (trouble instanceof DOMException) throw trouble
    throw new ApiError(0, 'The server cannot be reached.')
  })
  if (!response.ok) {
    const detail: unknown = await response.json().catch(() => undefined)
    throw new ApiError(response.status, sentence(response.status, detail))
  }
  return readMessage(await response.arrayBuffer())
}

/** Send files under a form's field; a refusal is said in the server's words where it has some. */
export async function sendFiles<T>(
  path: string,
  field: string,
  files: File[],
  beside: Record<string, string> = {},
): Promise<T> {
  const body = new FormData()
  for (const [name, value] of Object.entries(beside)) body.append(name, value)
  for (const file of files) body.append(field, file)
  const response = await fetch(path, {
    method: 'POST',
    headers: { 'X-CSRFToken': csrfToken() },
    body,
  }).catch(() => {
    throw new ApiError(0, 'The server cannot be reached; nothing was brought in.')
  })
  const said: unknown = await response.json().catch(() => undefined)
  if (!response.ok) {
    const { detail } = (said ?? {}) as { detail?: unknown }
    const told = typeof detail === 'string' ? detail : 'The files were not accepted.'
    throw new ApiError(response.status, told)
  }
  return said as T
}

/** Browser errors end up in the server's log, at most a few a minute. */
export function reportErrors(): void {
  let left = 5
  setInterval(() => {
    left = 5
  }, 60_000)
  const report = (message: string, stack: string) => {
    if (left-- <= 0) return
    void client
      .POST('/api/browser-errors', {
        body: {
          message: message.slice(0, 2000),
          stack: stack.slice(0, 8000),
          url: location.pathname,
        },
      })
      .catch(() => undefined)
  }
  addEventListener('error', (event) => {
    const error: unknown = event.error
    report(event.message, error instanceof Error ? (error.stack ?? '') : '')
  })
  addEventListener('unhandledrejection', (event) => {
    const reason: unknown = event.reason
    if (reason instanceof ApiError || reason instanceof DOMException) return
    report(String(reason), reason instanceof Error ? (reason.stack ?? '') : '')
  })
}
