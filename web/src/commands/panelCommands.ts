/** What the panels' buttons do, as commands: to the step and its part, and there the button. */
import { setStep } from '../actions/choose'
import type { Operation } from '../sync/catalogue'
import { notify, type StepName, useBench } from '../view/bench'
import { useOpenCard } from '../view/openCard'
import { type Command, focus } from './command'

interface PanelAction {
  step: StepName
  /** The part of the panel that it is in, as its tab is called. */
  tab?: string
  /** What is written on it, at least at its beginning. */
  button: string
  /** Where that alone does not say what it does. */
  title?: string
  /** It is a field that gets the keyboard. */
  field?: boolean
}

const PANEL_ACTIONS: readonly PanelAction[] = [
  { step: 'bring-in', button: 'Swap the take' },
  { step: 'bring-in', button: 'Make the next version', title: 'Make the take’s next version' },
  { step: 'bring-in', button: 'Read again', title: 'Read the file again' },
  { step: 'inspect', tab: 'Findings', button: 'Findings', title: 'List the findings' },
  { step: 'inspect', tab: 'Contacts', button: 'Contacts', title: 'List the contacts' },
  { step: 'inspect', tab: 'Body', button: 'Body', title: 'What each joint is' },
  { step: 'inspect', tab: 'Contacts', button: 'Add from now', title: 'Add a contact from now on' },
  { step: 'inspect', tab: 'Body', button: 'Keep group', title: 'Keep a group of joints' },
  {
    step: 'inspect',
    tab: 'Body',
    button: 'Keep as a profile',
    title: 'Keep the body as a profile',
  },
  {
    step: 'inspect',
    tab: 'Body',
    button: 'Keep in the profile',
    title: 'Keep the body in its profile',
  },
  { step: 'unflip', button: 'Begin in the solution of now' },
  { step: 'unflip', button: 'Apply unflip' },
  { step: 'thin', button: 'Apply thinning' },
  { step: 'thin', button: 'Paint on the curves', title: 'Paint spans that keep closer' },
  { step: 'plant', button: 'Hold it here', title: 'Plant a part where it is' },
  { step: 'plant', button: 'Mute all', title: 'Mute all plants' },
  { step: 'plant', button: 'Unmute all', title: 'Unmute all plants' },
  { step: 'plant', button: 'Make one', title: 'Make a prop' },
  { step: 'plant', button: 'Hand over at', title: 'Hand the prop over at now' },
  {
    step: 'plant',
    button: 'Add a partner',
    title: 'Add a partner beside this figure',
    field: true,
  },
  { step: 'plant', button: 'Follow the joint', title: 'Follow the partner’s joint' },
  { step: 'plant', button: 'Meet half way', title: 'Meet the partner’s hand half way' },
  { step: 'retarget', button: 'Retarget to', title: 'Retarget onto the chosen skeleton' },
  { step: 'retarget', button: 'Skeleton to retarget onto', field: true },
  { step: 'retarget', button: 'Change how it is retargeted' },
  { step: 'retarget', button: 'Retarget again', title: 'Retarget again from the source' },
  { step: 'retarget', button: 'Bring parts over', title: 'Bring layers and plants over' },
  { step: 'shape', tab: 'Keys', button: 'Scale', title: 'Scale the selected keys' },
  { step: 'shape', tab: 'Keys', button: 'Shift', title: 'Offset the selected keys in time' },
  { step: 'shape', tab: 'Keys', button: 'Flip', title: 'Flip the selected keys about 0' },
  { step: 'shape', tab: 'Keys', button: 'Of', title: 'Fit handles again' },
  { step: 'shape', tab: 'Layers', button: 'Name of a new layer', title: 'New layer', field: true },
  { step: 'shape', tab: 'Layers', button: 'Placement', title: 'Place the whole clip' },
  { step: 'shape', tab: 'Layers', button: 'Extract edits to a layer' },
  { step: 'shape', tab: 'Layers', button: 'Extract all work to a layer' },
  { step: 'shape', tab: 'Layers', button: 'Flatten all', title: 'Flatten all layers' },
  { step: 'shape', tab: 'Layers', button: 'Flatten', title: 'Flatten the active layer' },
  { step: 'shape', tab: 'Layers', button: 'Merge down', title: 'Merge the active layer down' },
  { step: 'shape', tab: 'Layers', button: 'Copy', title: 'Copy the active layer' },
  { step: 'shape', tab: 'Layers', button: 'Delete', title: 'Delete the active layer' },
  { step: 'shape', tab: 'Layers', button: 'Split off joints', title: 'Split joints off the layer' },
  { step: 'shape', tab: 'Layers', button: 'Split at now', title: 'Split the active layer at now' },
  { step: 'shape', tab: 'Layers', button: 'End correction here' },
  {
    step: 'shape',
    tab: 'Layers',
    button: 'Hold over range',
    title: 'Hold the correction over range',
  },
  { step: 'shape', tab: 'Layers', button: 'Layer curves', title: 'Show the layer curves' },
  { step: 'shape', tab: 'Layers', button: 'Weight curve', title: 'Show the layer’s weight curve' },
  { step: 'shape', tab: 'Time', button: 'Pin the range', title: 'Time pins on the range' },
  { step: 'shape', tab: 'Time', button: 'Range as a clip', title: 'Make the range a clip' },
  {
    step: 'shape',
    tab: 'Time',
    button: 'Split at now',
    title: 'Split the clip in two at now',
  },
  {
    step: 'join',
    button: 'Clip to join',
    title: 'Join a clip after this one',
    field: true,
  },
  { step: 'shape', tab: 'Time', button: 'Find loops' },
  { step: 'shape', tab: 'Time', button: 'Find cycles' },
  { step: 'shape', tab: 'Pose', button: 'Keep the pose', title: 'Keep the pose in the library' },
  { step: 'shape', tab: 'Pose', button: 'Keep the motion', title: 'Keep the range in the library' },
  { step: 'deliver', button: 'Preset', title: 'Choose a preset', field: true },
  { step: 'deliver', button: 'Deliver', title: 'Deliver the range' },
  {
    step: 'recipe',
    button: 'Name of the recipe',
    title: 'Keep these lines as a recipe',
    field: true,
  },
  { step: 'recipe', button: 'Apply recipe', title: 'Apply a recipe' },
]

/** Pictures that a button may take to be there and ready. */
const PATIENCE = 40

/** Until what was just opened is drawn. */
const drawn = () =>
  new Promise<void>((go) => requestAnimationFrame(() => requestAnimationFrame(() => go())))

const panel = () => document.querySelector<HTMLElement>('[data-panel]')

function buttonIn(text: string): HTMLButtonElement | undefined {
  const all = [...(panel()?.querySelectorAll<HTMLButtonElement>('button:not([role=tab])') ?? [])]
  const named = (b: HTMLButtonElement) => (b.ariaLabel ?? b.textContent ?? '').trim()
  return all.find((b) => named(b) === text) ?? all.find((b) => named(b).startsWith(`${text} `))
}

async function press({ step, tab, button, title, field }: PanelAction): Promise<void> {
  setStep(step)
  await drawn()
  if (tab) {
    const tabs = [...(panel()?.querySelectorAll<HTMLElement>('[role=tab]') ?? [])]
    const found = tabs.find((t) => t.textContent?.trim().startsWith(tab))
    // A tab is chosen by the press of a mouse, not by a click.
    found?.dispatchEvent(new MouseEvent('mousedown', { bubbles: true, button: 0 }))
    found?.focus()
    await drawn()
    if (button === tab) return
  }
  if (field) return focus(button)
  let found = buttonIn(button)
  // What it works on may still be on its way.
  for (let k = 0; k < PATIENCE && (!found || found.disabled); k++) {
    await drawn()
    found = buttonIn(button)
  }
  if (!found || found.disabled) {
    notify(`${title ?? button}: not possible as things stand here.`)
    found?.scrollIntoView({ block: 'nearest' })
    return
  }
  found.scrollIntoView({ block: 'nearest' })
  found.click()
}

export const PANEL_COMMANDS: readonly Command[] = PANEL_ACTIONS.map((action) => ({
  id: `panel-${action.step}-${action.tab ?? ''}-${action.button}`
    .replaceAll(' ', '-')
    .toLowerCase(),
  title: action.title ?? action.button,
  group: 'Panels',
  key: '',
  run: () => void press(action),
}))

/** Operations with a card of their own: the card opens. */
export const operationCommands = (operations: readonly Operation[]): Command[] =>
  operations
    .filter((o) => o.step && !PANEL_COMMANDS.some((c) => c.title === o.title))
    .map((o) => ({
      id: `operation-${o.name}`,
      title: o.title,
      group: 'Panels',
      key: '',
      run: () => {
        if (useBench.getState().step !== o.step) setStep(o.step as StepName)
        useOpenCard.setState({ open: o.name, at: null })
      },
    }))
