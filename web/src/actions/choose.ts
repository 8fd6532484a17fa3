/** What is chosen on the bench: joints, channels, read-outs, the step. */
import { textOf } from '../api/client'
import type { ChannelKey, Readout } from '../evaluation/curves'
import { jointsOf } from '../evaluation/owners'
import { bringCurves } from '../sync/confirmed'
import { cancelPreview, previewAgain } from '../sync/previews'
import { notify, type StepName, useBench } from '../view/bench'
import { useSelection } from '../view/selection'
import { shownChannels } from '../view/shown'
import { useViewing } from '../view/viewing'

const { getState: get, setState: set } = useBench

const bring = () => void bringCurves().catch((trouble: unknown) => notify(textOf(trouble)))

export function selectJoints(joints: number[], channels: ChannelKey[] = []): void {
  set({ joints, channels })
  const shown = new Set(shownChannels(get()))
  const { keys } = useSelection.getState()
  const left = new Map([...keys].filter(([key]) => shown.has(key)))
  // The timing sheet shows the keys of all joints.
  if (left.size < keys.size && !useViewing.getState().timing) useSelection.setState({ keys: left })
  bring()
  previewAgain()
}

export function selectChannels(channels: ChannelKey[]): void {
  selectJoints(jointsOf(channels), channels)
}

export function setReadout(readout: Readout | null): void {
  set({ readout })
  bring()
}

export function setStep(step: StepName): void {
  if (get().step === step) return
  cancelPreview()
  set({ step })
}
