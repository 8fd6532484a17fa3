/** Every command of the bench, once: its title, its key, what it does. The command list, the
 * key help, the context menu and the keyboard all read this table. */

import { selectChannels, selectJoints, setStep } from '../actions/choose'
import { toNext } from '../actions/findings'
import { showTiming } from '../actions/folding'
import { markNow, toMark } from '../actions/marks'
import { addPin, dropPins, pinRange, usePins } from '../actions/pins'
import { copyPose, pastePose } from '../actions/poseKeys'
import { keyPose, putBack, setAuto, unkeyedNow, usePosing } from '../actions/posing'
import { keepCopy, swapTrace } from '../actions/traces'
import { prefer, theme } from '../session/session'
import { sheetRef } from '../sheet/SheetView'
import { stageRef } from '../stage/refs'
import { review, useReview } from '../stage/review'
import { stripRef } from '../strip/StripView'
import { redo, undo } from '../sync/write'
import { timingRef } from '../timing/TimingView'
import { useBench } from '../view/bench'
import { toggleFull } from '../view/fullPane'
import { useOverlay } from '../view/overlay'
import { useSelection } from '../view/selection'
import { shownChannels } from '../view/shown'
import { transport } from '../view/transport'
import { toggleMuted, togglePinned, useViewing } from '../view/viewing'
import { type Command, focus } from './command'
import { KEY_COMMANDS } from './keyCommands'
import { PANEL_COMMANDS } from './panelCommands'

/** The newest is what is taken back: a pose that is not keyed yet is newer than any revision. */
const undoNow = () => {
  if (unkeyedNow()) putBack()
  else void undo()
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
  {
    id: 'weight',
    title: 'Centre of mass on or off',
    group: 'Stage',
    key: 'Alt+M',
    run: () => useViewing.setState((s) => ({ weight: !s.weight })),
  },
  ...KEY_COMMANDS,
  ...PANEL_COMMANDS,
  ...(
    [
      ['bring-in', 'Bring in', '1'],
      ['inspect', 'Inspect', '2'],
      ['unflip', 'Unflip', '3'],
      ['calm', 'Calm', '4'],
      ['thin', 'Thin', '5'],
      ['plant', 'Plant', '6'],
      ['balance', 'Balance', 'B'],
      ['retarget', 'Retarget', '7'],
      ['shape', 'Shape', '8'],
      ['join', 'Join', 'J'],
      ['deliver', 'Deliver', '9'],
      ['recipe', 'Recipe', '0'],
    ] as const
  ).map(([name, title, key]) => ({
    id: `step-${name}`,
    title: `Step: ${title}`,
    group: 'Steps' as const,
    key: `Alt+${key}`,
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
    title: 'Keyboard, and changing its keys',
    group: 'Help',
    key: '?',
    run: () => useOverlay.setState({ shown: 'keys' }),
  },
]
