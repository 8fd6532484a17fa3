import { copySelected, paste } from '../actions/clipboard'
import { removeContact } from '../actions/contacts'
import {
  channelsOf,
  commitEdits,
  deleteSelected,
  editSelected,
  refit,
  setKeys,
} from '../actions/edits'
import { freePlant } from '../actions/plants'
import { HANDLES } from '../evaluation/curves'
import { setRadius, setStrength, takeBrush, useBrush } from '../sheet/brushState'
import { setHandle } from '../sheet/KeyBar'
import {
  alongChannels,
  atTheseTimes,
  inTheRange,
  invertKeys,
  nudge,
  selectAll,
  walkChannels,
  walkKeys,
} from '../sheet/nudges'
import { useBench } from '../view/bench'
import { common, useSelection } from '../view/selection'
import { type Command, focus } from './command'

const deleteChosen = () => {
  const { contact, plant } = useBench.getState()
  if (plant) freePlant(plant)
  else if (contact) removeContact(contact)
  else deleteSelected()
}

const flag = (name: 'riding' | 'muted') => {
  const { keys } = useSelection.getState()
  const on = common(useBench.getState().curves, keys)[name]
  void commitEdits(editSelected(() => ({ [name]: !on })))
}

const key = (id: string, title: string, key: string, run: () => void): Command => ({
  id,
  title,
  group: 'Keys',
  key,
  run,
})

export const KEY_COMMANDS: readonly Command[] = [
  key('walk-back', 'Select the key before', 'A', () => walkKeys(-1)),
  key('walk-on', 'Select the key after', 'D', () => walkKeys(1)),
  key('channel-up', 'To the channel above', 'W', () => walkChannels(-1)),
  key('channel-down', 'To the channel below', 'S', () => walkChannels(1)),
  key('earlier', 'Selected keys a frame earlier', 'Ctrl+ArrowLeft', () => nudge(-1, 0)),
  key('later', 'Selected keys a frame later', 'Ctrl+ArrowRight', () => nudge(1, 0)),
  key('higher', 'Selected keys a step higher', 'Ctrl+ArrowUp', () => nudge(0, 1)),
  key('lower', 'Selected keys a step lower', 'Ctrl+ArrowDown', () => nudge(0, -1)),
  key('much-higher', 'Ten steps higher', 'Ctrl+Shift+ArrowUp', () => nudge(0, 10)),
  key('much-lower', 'Ten steps lower', 'Ctrl+Shift+ArrowDown', () => nudge(0, -10)),
  key('type-frame', 'Type the keys’ frame', 'F', () => focus('Frame of the selected keys')),
  key('type-value', 'Type the keys’ value', 'G', () => focus('Value of the selected keys')),
  key('set-key', 'Set a key on the shown channels', 'T', () => setKeys(channelsOf('shown'))),
  key('set-pose', 'Set a key on the selected joints', 'Shift+T', () => setKeys(channelsOf('all'))),
  key('delete', 'Delete the selected keys, contact or plant', 'Delete', deleteChosen),
  key('copy', 'Copy keys', 'Ctrl+C', () => void copySelected()),
  key('cut', 'Cut keys', 'Ctrl+X', () => {
    if (copySelected()) deleteSelected()
  }),
  key('paste', 'Paste keys at now', 'Ctrl+V', paste),
  key('select-all', 'Select all keys shown', 'Ctrl+A', selectAll),
  key('invert', 'Invert the selection', 'Ctrl+I', invertKeys),
  key('along', 'All keys of these channels', 'Y', alongChannels),
  key('these-times', 'All keys at these times', 'Shift+Y', atTheseTimes),
  key('in-range', 'All keys in the range', 'Shift+R', inTheRange),
  ...HANDLES.map((name, k) =>
    key(`handle-${name}`, `Handles: ${name}`, `Shift+${k + 4}`, () => setHandle(name)),
  ),
  key('refit', 'Keep the keys, fit their handles again', 'Alt+H', () => void refit()),
  key('ride', 'Keep relative timing, or not', 'Shift+G', () => flag('riding')),
  key('mute-keys', 'Mute keys, or unmute them', 'Shift+M', () => flag('muted')),
  key('pull', 'Brush: drag', 'B', () => takeBrush('pull')),
  key('calm-brush', 'Brush: soften', 'N', () => takeBrush('calm')),
  key('restore', 'Brush: restore', 'Shift+B', () => takeBrush('restore')),
  key('smaller', 'Brush smaller', '[', () => setRadius(useBrush.getState().radius / 1.2)),
  key('larger', 'Brush larger', ']', () => setRadius(useBrush.getState().radius * 1.2 + 0.5)),
  key('weaker', 'Brush weaker', 'Shift+{', () => setStrength(useBrush.getState().strength - 0.1)),
  key('stronger', 'Brush stronger', 'Shift+}', () =>
    setStrength(useBrush.getState().strength + 0.1),
  ),
]
