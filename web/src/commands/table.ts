/** Every command of the bench, once: its title, its key, what it does. The command list, the
 * key help, the context menu and the keyboard all read this table. */
import { toggleFull } from '../bench/fullPane'
import { useBench } from '../clip/bench'
import { selectChannels, selectJoints, setStep } from '../clip/choose'
import { copySelected, paste } from '../clip/clipboard'
import { removeContact } from '../clip/contacts'
import { HANDLES } from '../clip/curves'
import {
  channelsOf,
  commitEdits,
  deleteSelected,
  editSelected,
  refit,
  setKeys,
} from '../clip/edits'
import { toNext } from '../clip/findings'
import { markNow, toMark } from '../clip/marks'
import { addPin, dropPins, pinRange, usePins } from '../clip/pins'
import { freePlant } from '../clip/plants'
import {
  copyPose,
  keyPose,
  pastePose,
  putBack,
  setAuto,
  unkeyedNow,
  usePosing,
} from '../clip/posing'
import { common, useSelection } from '../clip/selection'
import { shownChannels } from '../clip/shown'
import { keepCopy, swapTrace } from '../clip/traces'
import { transport } from '../clip/transport'
import { toggleMuted, togglePinned, useViewing } from '../clip/viewing'
import { redo, undo } from '../clip/write'
import { prefer, theme } from '../session/session'
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
import { sheetRef } from '../sheet/SheetView'
import { stageRef } from '../stage/refs'
import { review, useReview } from '../stage/review'
import { stripRef } from '../strip/StripView'
import { showTiming } from '../timing/folding'
import { timingRef } from '../timing/TimingView'
import { useOverlay } from './overlay'

export interface Command {
  id: string
  title: string
  group: 'Time' | 'Stage' | 'Curve sheet' | 'Keys' | 'Steps' | 'Clip' | 'Help'
  /** As `keyOf` writes it: modifiers, then the key. */
  key: string
  run: () => void
}

const focus = (label: string) => {
  const input = document.querySelector<HTMLInputElement>(`[aria-label="${label}"]`)
  input?.focus()
  input?.select()
}

/** The newest is what is taken back: a pose that is not keyed yet is newer than any revision. */
const undoNow = () => {
  if (unkeyedNow()) putBack()
  else void undo()
}

const deleteChosen = () => {
  const { contact, plant } = useBench.getState()
  if (plant) freePlant(plant)
  else if (contact) removeContact(contact)
  else deleteSelected()
}

const press = (selector: string) => document.querySelector<HTMLElement>(selector)?.click()

/** Muted is what keys are selected on, else all that is shown. */
const chosenChannels = () => {
  const { keys } = useSelection.getState()
  return keys.size ? [...keys.keys()] : shownChannels(useBench.getState())
}

const isolate = () => {
  const { keys } = useSelection.getState()
  const { channels } = useBench.getState()
  if (channels.length) selectJoints(useBench.getState().joints)
  else if (keys.size) selectChannels([...keys.keys()])
}

/** The sheet that is shown: curves, or keys over time. */
const sheet = () => timingRef.current ?? sheetRef.current

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

const KEYS: readonly Command[] = [
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
  key('ride', 'Keys ride, or stand', 'Shift+G', () => flag('riding')),
  key('mute-keys', 'Mute keys, or hear them', 'Shift+M', () => flag('muted')),
  key('pull', 'Brush: pull', 'B', () => takeBrush('pull')),
  key('calm-brush', 'Brush: calm', 'N', () => takeBrush('calm')),
  key('restore', 'Brush: restore', 'Shift+B', () => takeBrush('restore')),
  key('smaller', 'Brush smaller', '[', () => setRadius(useBrush.getState().radius / 1.2)),
  key('larger', 'Brush larger', ']', () => setRadius(useBrush.getState().radius * 1.2 + 0.5)),
  key('weaker', 'Brush weaker', 'Shift+{', () => setStrength(useBrush.getState().strength - 0.1)),
  key('stronger', 'Brush stronger', 'Shift+}', () =>
    setStrength(useBrush.getState().strength + 0.1),
  ),
]

const toKey = (direction: -1 | 1) => {
  const frame = stripRef.current?.keyBeside(direction)
  if (frame != null) {
    transport.goTo(frame)
  }
}

export const COMMANDS: readonly Command[] = [
  {
    id: 'play',
    title: 'Play or pause',
    group: 'Time',
    key: 'Space',
    run: () => transport.toggle(),
  },
  {
    id: 'back',
    title: 'One frame back',
    group: 'Time',
    key: 'ArrowLeft',
    run: () => transport.step(-1),
  },
  {
    id: 'on',
    title: 'One frame on',
    group: 'Time',
    key: 'ArrowRight',
    run: () => transport.step(1),
  },
  {
    id: 'back-ten',
    title: 'Ten frames back',
    group: 'Time',
    key: 'Shift+ArrowLeft',
    run: () => transport.step(-10),
  },
  {
    id: 'on-ten',
    title: 'Ten frames on',
    group: 'Time',
    key: 'Shift+ArrowRight',
    run: () => transport.step(10),
  },
  { id: 'key-before', title: 'To the key before', group: 'Time', key: 'Q', run: () => toKey(-1) },
  { id: 'key-after', title: 'To the key after', group: 'Time', key: 'E', run: () => toKey(1) },
  {
    id: 'range-start',
    title: 'To the start of the range',
    group: 'Time',
    key: 'Shift+Q',
    run: () => transport.seek(transport.range[0]),
  },
  {
    id: 'range-end',
    title: 'To the end of the range',
    group: 'Time',
    key: 'Shift+E',
    run: () => transport.seek(transport.range[1]),
  },
  {
    id: 'range-from',
    title: 'Range begins now',
    group: 'Time',
    key: 'Shift+A',
    run: () => transport.setRange(transport.frame, transport.range[1]),
  },
  {
    id: 'range-to',
    title: 'Range ends now',
    group: 'Time',
    key: 'Shift+D',
    run: () => transport.setRange(transport.range[0], transport.frame),
  },
  {
    id: 'range-all',
    title: 'Range to the whole clip',
    group: 'Time',
    key: 'Shift+W',
    run: () => transport.setRange(0, transport.frames - 1),
  },
  {
    id: 'mark-now',
    title: 'Mark now',
    group: 'Time',
    key: 'Shift+S',
    run: markNow,
  },
  {
    id: 'mark-before',
    title: 'To the mark before',
    group: 'Time',
    key: 'Alt+Q',
    run: () => toMark(-1),
  },
  {
    id: 'mark-after',
    title: 'To the mark after',
    group: 'Time',
    key: 'Alt+E',
    run: () => toMark(1),
  },
  ...(
    [
      ['findings', 'finding', 'A', 'D'],
      ['contacts', 'contact', 'Z', 'C'],
    ] as const
  ).flatMap(([what, one, before, after]) => [
    {
      id: `${one}-before`,
      title: `To the ${one} before`,
      group: 'Time' as const,
      key: `Alt+${before}`,
      run: () => toNext(what, -1),
    },
    {
      id: `${one}-after`,
      title: `To the ${one} after`,
      group: 'Time' as const,
      key: `Alt+${after}`,
      run: () => toNext(what, 1),
    },
  ]),
  {
    id: 'pin-range',
    title: 'Time pins on the range, or put them back',
    group: 'Time',
    key: 'Shift+Z',
    run: () => (usePins.getState().pins ? dropPins() : pinRange()),
  },
  { id: 'pin-now', title: 'A time pin now', group: 'Time', key: 'Shift+F', run: () => addPin() },
  {
    id: 'loop',
    title: 'Loop on or off',
    group: 'Time',
    key: 'R',
    run: () => transport.setLoop(!transport.loop),
  },
  {
    id: 'hands-free',
    title: 'Hands-free scrub',
    group: 'Time',
    key: 'X',
    run: () => press('[data-testid=hands-free]'),
  },
  {
    id: 'fit-figure',
    title: 'Frame the figure',
    group: 'Stage',
    key: 'C',
    run: () => stageRef.current?.fit(),
  },
  {
    id: 'front',
    title: 'From the front',
    group: 'Stage',
    key: 'Shift+1',
    run: () => stageRef.current?.view('front'),
  },
  {
    id: 'side',
    title: 'From the side',
    group: 'Stage',
    key: 'Shift+2',
    run: () => stageRef.current?.view('side'),
  },
  {
    id: 'top',
    title: 'From above',
    group: 'Stage',
    key: 'Shift+3',
    run: () => stageRef.current?.view('top'),
  },
  {
    id: 'three-quarter',
    title: 'Three-quarter view',
    group: 'Stage',
    key: 'Alt+R',
    run: () => stageRef.current?.view('three-quarter'),
  },
  {
    id: 'split',
    title: 'Stage in two views, or one',
    group: 'Stage',
    key: 'Alt+S',
    run: () => useViewing.setState((s) => ({ split: !s.split })),
  },
  {
    id: 'pose',
    title: 'Pose joints, or only look',
    group: 'Stage',
    key: 'J',
    run: () => usePosing.setState((s) => ({ on: !s.on })),
  },
  {
    id: 'pose-mode',
    title: 'Pose: turn, move, or pull',
    group: 'Stage',
    key: 'Alt+W',
    run: () =>
      usePosing.setState(({ mode }) => ({
        mode: mode === 'turn' ? 'move' : mode === 'move' ? 'pull' : 'turn',
      })),
  },
  {
    id: 'pose-axes',
    title: 'Pose: own axes, or the world’s',
    group: 'Stage',
    key: 'Alt+X',
    run: () => usePosing.setState((s) => ({ axes: s.axes === 'local' ? 'world' : 'local' })),
  },
  {
    id: 'auto-key',
    title: 'Auto key on or off',
    group: 'Stage',
    key: 'Shift+J',
    run: () => setAuto(!usePosing.getState().auto),
  },
  {
    id: 'key-pose',
    title: 'Key what is not keyed yet',
    group: 'Stage',
    key: 'U',
    run: () => void keyPose(),
  },
  {
    id: 'copy-pose',
    title: 'Copy the pose of the selected joints',
    group: 'Stage',
    key: 'Alt+F',
    run: copyPose,
  },
  {
    id: 'paste-pose',
    title: 'Paste the pose',
    group: 'Stage',
    key: 'Alt+G',
    run: () => void pastePose(false),
  },
  {
    id: 'paste-mirrored',
    title: 'Paste the pose mirrored',
    group: 'Stage',
    key: 'Alt+Shift+G',
    run: () => void pastePose(true),
  },
  {
    id: 'review',
    title: 'Review the range full-window',
    group: 'Stage',
    key: 'Shift+Space',
    run: () => review(!useReview.getState().on),
  },
  {
    id: 'follow',
    title: 'Follow the root',
    group: 'Stage',
    key: 'V',
    run: () => useViewing.setState((s) => ({ follow: !s.follow })),
  },
  {
    id: 'ghost',
    title: 'Before ghost on or off',
    group: 'Stage',
    key: 'Shift+V',
    run: () => useBench.setState((s) => ({ ghost: !s.ghost })),
  },
  {
    id: 'stage-alone',
    title: 'Stage alone, or shared',
    group: 'Stage',
    key: 'Shift+C',
    run: () => toggleFull('stage'),
  },
  {
    id: 'timing',
    title: 'Timing sheet, or curves',
    group: 'Curve sheet',
    key: 'Z',
    run: () => showTiming(!useViewing.getState().timing),
  },
  {
    id: 'sheet-alone',
    title: 'Curve sheet alone, or shared',
    group: 'Curve sheet',
    key: '6',
    run: () => toggleFull('sheet'),
  },
  {
    id: 'frame-all',
    title: 'Frame all',
    group: 'Curve sheet',
    key: '1',
    run: () => sheet()?.frameAll(),
  },
  {
    id: 'frame-values',
    title: 'Frame the selected keys, or the values seen',
    group: 'Curve sheet',
    key: '2',
    run: () => sheet()?.frameSelection(),
  },
  {
    id: 'frame-range',
    title: 'Frame the range',
    group: 'Curve sheet',
    key: '3',
    run: () => sheet()?.frameRange(),
  },
  {
    id: 'around-now',
    title: 'Around now',
    group: 'Curve sheet',
    key: '4',
    run: () => sheet()?.aroundNow(),
  },
  {
    id: 'bands',
    title: 'One scale, or a band a channel',
    group: 'Curve sheet',
    key: '5',
    run: () => press('[data-command=bands]'),
  },
  {
    id: 'find-joint',
    title: 'Find a joint',
    group: 'Curve sheet',
    key: '/',
    run: () => focus('Find a joint'),
  },
  {
    id: 'isolate',
    title: 'Only the channels of the selected keys, or all again',
    group: 'Curve sheet',
    key: 'O',
    run: isolate,
  },
  {
    id: 'pin',
    title: 'Pin the shown channels, or let them go',
    group: 'Curve sheet',
    key: 'P',
    run: () => togglePinned(shownChannels(useBench.getState())),
  },
  {
    id: 'mute',
    title: 'Play without these channels, or with them',
    group: 'Curve sheet',
    key: 'M',
    run: () => toggleMuted(chosenChannels()),
  },
  {
    id: 'keep-copy',
    title: 'Keep a copy as the before trace',
    group: 'Curve sheet',
    key: 'K',
    run: keepCopy,
  },
  {
    id: 'swap-trace',
    title: 'Swap with the before trace',
    group: 'Curve sheet',
    key: 'Shift+K',
    run: () => void swapTrace(),
  },
  {
    id: 'hold-preview',
    title: 'Hold preview: pose to pose',
    group: 'Time',
    key: 'H',
    run: () => useViewing.setState((s) => ({ hold: !s.hold })),
  },
  {
    id: 'trails',
    title: 'Trails on or off',
    group: 'Stage',
    key: 'Shift+X',
    run: () => useViewing.setState((s) => ({ trails: !s.trails })),
  },
  ...KEYS,
  ...(
    [
      ['bring-in', 'Bring in'],
      ['inspect', 'Inspect'],
      ['unflip', 'Unflip'],
      ['calm', 'Calm'],
      ['thin', 'Thin'],
      ['plant', 'Plant'],
      ['retarget', 'Retarget'],
      ['shape', 'Shape'],
      ['deliver', 'Deliver'],
      ['recipe', 'Recipe'],
    ] as const
  ).map(([name, title], k) => ({
    id: `step-${name}`,
    title: `Step: ${title}`,
    group: 'Steps' as const,
    // Ten keys in a row: the last of them is 0.
    key: `Alt+${(k + 1) % 10}`,
    run: () => setStep(name),
  })),
  {
    id: 'undo',
    title: 'Undo, or put back what is not keyed',
    group: 'Clip',
    key: 'Ctrl+Z',
    run: undoNow,
  },
  { id: 'redo', title: 'Redo', group: 'Clip', key: 'Ctrl+Shift+Z', run: () => void redo() },
  {
    id: 'theme',
    title: 'Chart paper or night',
    group: 'Help',
    key: 'Ctrl+Shift+L',
    run: () => prefer({ theme: theme() === 'chart' ? 'night' : 'chart' }),
  },
  {
    id: 'commands',
    title: 'List of commands',
    group: 'Help',
    key: 'Ctrl+K',
    run: () => useOverlay.setState({ shown: 'commands' }),
  },
  {
    id: 'keys',
    title: 'Keys, and changing them',
    group: 'Help',
    key: '?',
    run: () => useOverlay.setState({ shown: 'keys' }),
  },
]
