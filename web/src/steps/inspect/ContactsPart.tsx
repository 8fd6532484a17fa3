/** Contacts: spans in which feet and hands are held, to be put right before thinning. */
import { useState } from 'react'
import {
  addContact,
  joinContact,
  moveContact,
  nextContact,
  removeContact,
  sameContact,
  splitContact,
} from '../../actions/contacts'
import type { Contact } from '../../evaluation/model'
import { write } from '../../sync/write'
import { Button, inputLook } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'

const LIMBS = [
  ...['left heel', 'left toe', 'left foot', 'left hand'],
  ...['right heel', 'right toe', 'right foot', 'right hand', 'airborne'],
]

function Floor() {
  const contacts = useBench((s) => s.contacts)
  const line = useBench((s) => s.clip?.head.recipe[0])
  if (!contacts || !line) return null
  const set = (floor: number | undefined) => {
    const { floor_mm: _, ...rest } = line.params as Record<string, unknown>
    const params = floor === undefined ? rest : { ...rest, floor_mm: floor }
    void write({ edit: { line_id: line.line_id, operation: 'read', params, scope: {} } })
  }
  const shown = contacts.floor_mm.toFixed(1)
  return (
    <div className="flex items-center justify-between gap-2">
      <label className="flex items-center gap-2 text-ink-2">
        Floor at
        <input
          key={shown}
          className={`${inputLook} num h-6 w-20 text-right`}
          inputMode="decimal"
          defaultValue={shown}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          onBlur={(e) => {
            const typed = Number(e.currentTarget.value)
            if (e.currentTarget.value !== shown && Number.isFinite(typed)) set(typed)
          }}
        />
        mm
      </label>
      {contacts.floor_set ? (
        <Button onClick={() => set(undefined)}>Estimate it</Button>
      ) : (
        <span className="text-ink-3">estimated</span>
      )}
    </div>
  )
}

function Chosen({ contact }: { contact: Contact }) {
  const end = (which: 'first' | 'last') => (
    <input
      key={contact[which]}
      aria-label={`${which === 'first' ? 'First' : 'Last'} frame of the contact`}
      className={`${inputLook} num h-6 w-16`}
      inputMode="numeric"
      defaultValue={contact[which]}
      onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
      onBlur={(e) => {
        const typed = Number(e.currentTarget.value)
        if (!Number.isFinite(typed)) return
        const next = { ...contact, [which]: typed }
        moveContact(contact, next.first, next.last)
      }}
    />
  )
  return (
    <div className="flex flex-col gap-2 rounded-[4px] border border-rule-2 p-2">
      <p className="flex items-center gap-2">
        <b className="flex-1">{contact.limb}</b>
        {end('first')} – {end('last')}
      </p>
      <div className="flex flex-wrap gap-1.5">
        <Button onClick={() => splitContact(contact)}>Split at now</Button>
        <Button disabled={!nextContact(contact)} onClick={() => joinContact(contact)}>
          Join with the next
        </Button>
        <Button onClick={() => removeContact(contact)}>Delete</Button>
      </div>
    </div>
  )
}

export function ContactsPart() {
  const contacts = useBench((s) => s.contacts)
  const contact = useBench((s) => s.contact)
  const [limb, setLimb] = useState('left toe')
  if (!contacts) return <p className="text-ink-3">Looking for contacts …</p>
  return (
    <>
      <p className="text-ink-2">
        {contacts.by_hand
          ? 'Kept in the clip as they were set.'
          : 'Found by height and speed. Drag a bar on the time strip to put it right.'}
      </p>
      <Floor />
      {contact && <Chosen contact={contact} />}
      <div className="flex gap-1.5">
        <select
          aria-label="Limb of a new contact"
          className={`${inputLook} h-6 flex-1`}
          value={limb}
          onChange={(e) => setLimb(e.target.value)}
        >
          {LIMBS.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
        <Button onClick={() => addContact(limb)}>Add from now</Button>
      </div>
      <ul
        aria-label="Contacts"
        className="min-h-24 flex-1 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
      >
        {contacts.contacts.map((c) => (
          <li key={`${c.limb}/${c.first}/${c.last}`}>
            <button
              type="button"
              aria-pressed={sameContact(c, contact)}
              className={`flex h-6 w-full items-center justify-between px-2 text-left hover:bg-sunk ${sameContact(c, contact) ? 'bg-sunk font-semibold' : ''}`}
              onClick={() => {
                useBench.setState({ contact: c })
                transport.goTo(c.first)
              }}
            >
              <span>{c.limb}</span>
              <span className="num text-ink-2">
                {c.first}–{c.last}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <OperationCard name="find_contacts" />
    </>
  )
}
