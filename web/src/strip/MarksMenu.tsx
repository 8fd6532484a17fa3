/** The clip's marks as a list: made, named, gone to, made the range of. */
import { Flag, X } from 'lucide-react'
import { markNow, markRange, removeMark, renameMark } from '../actions/marks'
import type { Mark } from '../evaluation/model'
import { Button, inputLook, Popover } from '../ui/controls'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'

export function MarksMenu() {
  const marks = useBench((s) => s.clip?.marks)
  return (
    <Popover
      name="Marks"
      trigger={
        <Button>
          <Flag size={13} /> <span className="max-[1120px]:sr-only">Marks</span>
        </Button>
      }
    >
      <div className="flex w-80 flex-col gap-2">
        <div className="flex gap-1.5 [&>button]:flex-1">
          <Button onClick={markNow}>Mark now</Button>
          <Button onClick={markRange}>Mark the range</Button>
        </div>
        {marks?.length ? (
          <ul className="flex max-h-60 flex-col gap-1 overflow-y-auto">
            {marks.map((mark) => (
              <MarkRow key={`${mark.name} ${mark.first} ${mark.last}`} mark={mark} />
            ))}
          </ul>
        ) : (
          <p className="text-ink-2">
            Name a moment or a stretch: it stays with the clip and moves along when time changes.
          </p>
        )}
      </div>
    </Popover>
  )
}

function MarkRow({ mark }: { mark: Mark }) {
  const span = mark.last > mark.first
  const keep = (input: HTMLInputElement) => {
    const name = input.value.trim()
    if (name && name !== mark.name) renameMark(mark, name)
  }
  return (
    <li className="flex items-center gap-1.5">
      <input
        aria-label={`Name of ${mark.name}`}
        defaultValue={mark.name}
        maxLength={60}
        className={`${inputLook} h-6 flex-1`}
        onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
        onBlur={(e) => keep(e.currentTarget)}
      />
      <Button className="num" onClick={() => transport.seek(mark.first)}>
        {span ? `${mark.first} – ${mark.last}` : mark.first}
      </Button>
      {span && (
        <Button
          aria-label={`Range to ${mark.name}`}
          onClick={() => transport.setRange(mark.first, mark.last)}
        >
          range
        </Button>
      )}
      <Button aria-label={`Delete ${mark.name}`} kind="quiet" onClick={() => removeMark(mark)}>
        <X size={13} />
      </Button>
    </li>
  )
}
