/** One's own account: a new password, by the old one. */
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client } from '../api/client'
import { Button, Dialog, Field, inputLook } from '../ui/controls'

export function Account({ name, onClose }: { name: string; onClose: () => void }) {
  const [old, setOld] = useState('')
  const [fresh, setFresh] = useState('')
  const [again, setAgain] = useState('')
  const change = useMutation({
    mutationFn: () => answer(client.POST('/api/password', { body: { old, new: fresh } })),
    onSuccess: () => {
      setOld('')
      setFresh('')
      setAgain('')
    },
  })
  const differs = again !== '' && again !== fresh
  const password = (
    label: string,
    value: string,
    onChange: (value: string) => void,
    kind: 'current-password' | 'new-password',
  ) => (
    <Field label={label}>
      <input
        type="password"
        autoComplete={kind}
        required
        maxLength={200}
        className={`${inputLook} h-8`}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </Field>
  )
  return (
    <Dialog open onClose={onClose} title={`Password of ${name}`}>
      <form
        className="flex flex-col gap-3 px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault()
          if (!differs) change.mutate()
        }}
      >
        <p className="text-ink-2">
          Use at least eight characters. Other devices you are signed in on will be signed out.
        </p>
        {password('Current password', old, setOld, 'current-password')}
        {password('New password', fresh, setFresh, 'new-password')}
        {password('Repeat new password', again, setAgain, 'new-password')}
        {differs && <p className="text-bad">The two new passwords differ.</p>}
        {change.error && (
          <p role="alert" className="text-bad">
            {change.error.message}
          </p>
        )}
        {change.isSuccess && <p role="status">Your password is changed.</p>}
        <div className="flex justify-end gap-2">
          <Button type="button" onClick={onClose}>
            Close
          </Button>
          <Button
            type="submit"
            kind="primary"
            disabled={change.isPending || differs || !old || !fresh || !again}
          >
            {change.isPending ? 'Changing …' : 'Change password'}
          </Button>
        </div>
      </form>
    </Dialog>
  )
}
