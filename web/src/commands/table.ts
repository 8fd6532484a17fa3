/** Every command of the bench, once: its title, its key, what it does. The command list, the
 * key help, the context menu and the keyboard all read this table. */
import { toggleFull } from '../bench/fullPane'
import { redo, setStep, undo, useBench } from '../clip/bench'
import { transport } from '../clip/transport'
import { prefer, theme } from '../session/session'
import { sheetRef } from '../sheet/SheetView'
import { stageRef } from '../stage/StageView'
import { stripRef } from '../strip/StripView'
import { useOverlay } from './overlay'

export interface Command {
  id: string
  title: string
  group: 'Time' | 'Stage' | 'Curve sheet' | 'Steps' | 'Clip' | 'Help'
  /** As `keyOf` writes it: modifiers, then the key. */
  key: string
  run: () => void
}

const press = (selector: string) => document.querySelector<HTMLElement>(selector)?.click()

const toKey = (direction: -1 | 1) => {
  const frame = stripRef.current?.keyBeside(direction)
  if (frame != null) {
    transport.pause()
    transport.seek(frame)
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
    id: 'follow',
    title: 'Follow the root',
    group: 'Stage',
    key: 'V',
    run: () => press('[data-command=follow]'),
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
    run: () => sheetRef.current?.frameAll(),
  },
  {
    id: 'frame-values',
    title: 'Frame the selection, time as it is',
    group: 'Curve sheet',
    key: '2',
    run: () => sheetRef.current?.frameAll(false),
  },
  {
    id: 'frame-range',
    title: 'Frame the range',
    group: 'Curve sheet',
    key: '3',
    run: () => sheetRef.current?.frameRange(),
  },
  {
    id: 'around-now',
    title: 'Around now',
    group: 'Curve sheet',
    key: '4',
    run: () => sheetRef.current?.aroundNow(),
  },
  {
    id: 'bands',
    title: 'One scale, or a band a channel',
    group: 'Curve sheet',
    key: '5',
    run: () => press('[data-command=bands]'),
  },
  ...(
    [
      ['bring-in', 'Bring in'],
      ['inspect', 'Inspect'],
      ['unflip', 'Unflip'],
      ['calm', 'Calm'],
      ['thin', 'Thin'],
      ['deliver', 'Deliver'],
      ['recipe', 'Recipe'],
    ] as const
  ).map(([name, title], k) => ({
    id: `step-${name}`,
    title: `Step: ${title}`,
    group: 'Steps' as const,
    key: `Alt+${k + 1}`,
    run: () => setStep(name),
  })),
  { id: 'undo', title: 'Undo', group: 'Clip', key: 'Ctrl+Z', run: () => void undo() },
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
