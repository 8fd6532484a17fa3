/** Which rows of the timing sheet are open, and whether it lists the selected joints only. */
import { create } from 'zustand'
import { bringCurves } from '../sync/confirmed'
import { notify, useBench } from '../view/bench'
import { useViewing } from '../view/viewing'

export const useFolding = create<{ open: ReadonlySet<string>; only: boolean }>(() => ({
  open: new Set(),
  only: false,
}))

export function setOpen(id: string, on: boolean): void {
  const open = new Set(useFolding.getState().open)
  if (on) open.add(id)
  else open.delete(id)
  useFolding.setState({ open })
}

/** Open every row, or fold all of them. */
export function unfoldAll(on: boolean): void {
  const { clip, body } = useBench.getState()
  const parts = [...Object.keys(body?.groups ?? {}), 'other joints', 'props', 'layers'].map(
    (name) => `part ${name}`,
  )
  const joints = clip?.joints.map((_, j) => `joint ${j}`) ?? []
  const props = clip?.props.map((p) => `prop ${p.id}`) ?? []
  const layers = clip?.layers.map((x) => `layer ${x.id}`) ?? []
  useFolding.setState({ open: new Set(on ? [...parts, ...joints, ...props, ...layers] : []) })
}

/** The timing sheet in the curve sheet's place, or the curves again. */
export function showTiming(on: boolean): void {
  useViewing.setState({ timing: on })
  if (on) bringCurves().catch((trouble: unknown) => notify(String(trouble)))
}
