/** Contact spans by hand: every change is an edit of the clip, one line for edits in a row. */

import type { Contact } from '../evaluation/model'
import { apply } from '../sync/write'
import { useBench } from '../view/bench'
import { useSelection } from '../view/selection'
import { transport } from '../view/transport'

const { setState: set } = useBench

export const sameContact = (a: Contact | null, b: Contact | null): boolean =>
  a !== null && b !== null && a.limb === b.limb && a.first === b.first && a.last === b.last

async function edit(edits: object[], next: Contact | null): Promise<void> {
  if (await apply('edit_contacts', { edits })) set({ contact: next })
}

/** A span as it will stand: one with those of its limb that it comes to overlap. */
function joined(span: Contact, without: Contact | null): Contact {
  const met = (useBench.getState().contacts?.contacts ?? []).filter(
    (c) =>
      c.limb === span.limb &&
      !sameContact(c, without) &&
      c.first <= span.last &&
      span.first <= c.last,
  )
  const all = [span, ...met]
  return {
    limb: span.limb,
    first: Math.min(...all.map((c) => c.first)),
    last: Math.max(...all.map((c) => c.last)),
  }
}

// What was picked last is what Delete means: picked keys let go of the contact.
useSelection.subscribe(({ keys }, { keys: before }) => {
  if (keys.size && keys !== before) set({ contact: null, plant: null })
})

export function moveContact(contact: Contact, first: number, last: number): void {
  const [a, b] = [Math.min(first, last), Math.max(first, last)]
  const next = { ...contact, first: Math.round(a), last: Math.round(b) }
  if (sameContact(contact, next)) return
  const changes = { new_first: next.first, new_last: next.last }
  void edit([{ do: 'set', ...contact, ...changes }], joined(next, contact))
}

export function removeContact(contact: Contact): void {
  void edit([{ do: 'remove', ...contact }], null)
}

/** A span of a fifth of a second from now on. */
export function addContact(limb: string): void {
  const first = transport.frame
  const last = Math.min(transport.frames - 1, first + Math.round(0.2 * transport.rate))
  void edit([{ do: 'add', limb, first, last }], joined({ limb, first, last }, null))
}

/** Split at now: the frame itself belongs to neither half. */
export function splitContact(contact: Contact): void {
  const at = transport.frame
  if (at <= contact.first || at >= contact.last) return
  void edit(
    [
      { do: 'set', ...contact, new_last: at - 1 },
      { do: 'add', limb: contact.limb, first: at + 1, last: contact.last },
    ],
    { ...contact, last: at - 1 },
  )
}

/** The limb's next span after this one, if any. */
export function nextContact(contact: Contact): Contact | undefined {
  return useBench
    .getState()
    .contacts?.contacts.filter((c) => c.limb === contact.limb && c.first > contact.last)
    .sort((a, b) => a.first - b.first)[0]
}

export function joinContact(contact: Contact): void {
  const next = nextContact(contact)
  if (!next) return
  void edit(
    [
      { do: 'remove', ...next },
      { do: 'set', ...contact, new_last: next.last },
    ],
    { ...contact, last: next.last },
  )
}
