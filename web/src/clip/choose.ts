/** What is chosen on the bench: joints, channels, read-outs, the step. */
import { textOf } from '../api/client'
import { notify, type StepName, useBench } from './bench'
import { bringCurves } from './confirmed'
import type { ChannelKey, Readout } from './curves'
import { jointsOf } from './owners'
import { cancelPreview, previewAgain } from './previews'
import { useSelection } from './selection'
import { shownChannels } from './shown'
import { useViewing } from './viewing'

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
