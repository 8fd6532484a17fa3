/** Signing in. */
import { useState } from 'react'
import { Button, Field, inputLook } from '../ui/controls'
import { signIn, useSession } from './session'

export function SignIn() {
  const trouble = useSession((s) => s.trouble)
  const [busy, setBusy] = useState(false)
  return (
    <main className="grid h-full place-items-center">
      <form
        className="flex w-80 flex-col gap-3 rounded-md border border-rule-2 bg-raised p-6"
        onSubmit={(event) => {
          event.preventDefault()
          const form = new FormData(event.currentTarget)
          setBusy(true)
          void signIn(String(form.get('username')), String(form.get('password'))).finally(() =>
            setBusy(false),
          )
        }}
      >
        <svg viewBox="0 0 272 40" className="h-9" aria-hidden>
          <path
            d="M2 36C60 36 64 6 116 6s76 26 154 26"
            className="fill-none stroke-ink"
            strokeWidth="2"
          />
          <circle cx="116" cy="6" r="4.5" className="fill-raised stroke-signal" strokeWidth="2" />
        </svg>
        <h1 className="font-semibold text-[18px]">Lean Curve</h1>
        <Field label="Name">
          <input name="username" autoComplete="username" required className={`${inputLook} h-8`} />
        </Field>
        <Field label="Password">
          <input
            name="password"
            type="password"
            autoComplete="current-password"
            required
            className={`${inputLook} h-8`}
          />
        </Field>
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble}
          </p>
        )}
        <Button type="submit" kind="primary" className="h-8" disabled={busy}>
          {busy ? 'Signing in …' : 'Sign in'}
        </Button>
      </form>
    </main>
  )
}
