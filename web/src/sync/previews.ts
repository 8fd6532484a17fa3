/** Previews: what an operation would make, shown and never saved. The latest one wins. */
import { ApiError, numbers, type Schemas, textOf } from '../api/client'
import type { Message } from '../api/safetensors'
import { curvesOf } from '../evaluation/curves'
import type { Scope } from '../evaluation/model'
import { type Poses, posesOf, withChanged } from '../evaluation/poses'
import { useBench } from '../view/bench'

const { getState: get, setState: set } = useBench

let asked = new AbortController()
/** This page's own name, and how many previews it has asked for. */
const view = crypto.randomUUID()
let sequence = 0

/** The preview that was asked for last, until it is discarded or applied. */
let wanted: {
  operation: string
  params: Record<string, unknown>
  line: string | null
  scope: Scope
  inputs: Record<string, string | string[]> | null
} | null = null

interface PreviewOptions {
  line?: string | null
  scope?: Scope
  /** Other documents that it works with, by name and digest. */
  inputs?: Record<string, string | string[]> | null
  /** Only the selected joints' curves: the whole clip's numbers stand. */
  jointsOnly?: boolean
  /** Only the selected joints, while something is dragged: numbers wait until it is let go. */
  near?: boolean
}

/** Preview an operation: the selected joints at once, the whole clip's numbers after. */
export async function startPreview(
  operation: string,
  params: Record<string, unknown>,
  {
    line = null,
    scope = {},
    inputs = null,
    jointsOnly = false,
    near: only = false,
  }: PreviewOptions = {},
): Promise<void> {
  const { clip, joints, preview } = get()
  if (!clip) return
  wanted = { operation, params, line, scope, inputs }
  asked.abort()
  asked = new AbortController()
  const { signal } = asked
  const body = {
    revision: clip.head.id,
    operation,
    params,
    scope,
    inputs,
    line,
    view,
    sequence: ++sequence,
    joints: joints.map((j) => clip.joints[j]!.name),
  }
  const whole = jointsOnly ? preview?.whole : undefined
  set({ previewing: true })
  try {
    const near = await numbers(`/api/clips/${clip.id}/preview`, body, signal)
    const curves = curvesOf(near)
    set({
      preview: { operation, params, scope, line, curves, ...(whole ? { whole } : {}) },
      previewTrouble: null,
    })
    if (whole || only) {
      set({ previewing: false })
      return
    }
    const all = await numbers(
      `/api/clips/${clip.id}/preview/whole`,
      { ...body, joints: [] },
      signal,
    )
    // Curves of the whole clip's own result, which a few joints alone only come near to.
    const exact = await numbers(`/api/clips/${clip.id}/preview`, body, signal)
    const { poses, preview: now } = get()
    if (signal.aborted || !now || !poses) return
    set({
      previewing: false,
      preview: {
        ...now,
        curves: curvesOf(exact),
        whole: {
          report: all.about.report as Record<string, number>,
          drift: all.about.drift as Schemas['DriftOut'] | null,
          keys: all.about.keys as number,
          findings: all.about.findings as Record<string, number> | null,
          poses: previewed(poses, all, clip.joints.length),
        },
      },
    })
  } catch (trouble) {
    if (trouble instanceof DOMException) return
    if (trouble instanceof ApiError && trouble.status === 410) return
    wanted = null
    set({ previewTrouble: textOf(trouble), previewing: false, preview: null })
  }
}

/** The poses a preview gives: all of them where it changes the clip's length. */
function previewed(poses: Poses, got: Message, joints: number): Poses {
  const told = got.arrays.get('joints')!.data.length
  if (told === joints) return posesOf(got, joints)
  const fits = (got.about.frames as number) === poses.frames
  return told && fits ? withChanged(poses, got) : poses
}

/** Ask anew for what was asked for last: the selection is another. */
export function previewAgain(): void {
  const { preview, previewing } = get()
  // What is being asked for counts, not only what has come back.
  if (wanted)
    void startPreview(wanted.operation, wanted.params, {
      ...wanted,
      jointsOnly: !previewing && preview?.whole !== undefined,
    })
}

export function cancelPreview(): void {
  wanted = null
  asked.abort()
  if (get().preview || get().previewTrouble || get().previewing)
    set({ preview: null, previewTrouble: null, previewing: false })
}
