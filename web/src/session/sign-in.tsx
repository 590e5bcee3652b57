import { useEffect, useRef, useState } from 'react'
import { useLocation, useNavigate } from 'react-router'

import { useSignIn } from '../api/queries'
import { Button, Field, inputLook, Problem } from '../ui/parts'

/** The token that a link carries behind its #, which no server ever sees. */
const tokenOf = (hash: string) => new URLSearchParams(hash.replace(/^#/, '')).get('token') ?? ''

export function SignIn() {
  const { hash } = useLocation()
  const navigate = useNavigate()
  const signIn = useSignIn()
  const [token, setToken] = useState('')
  const started = useRef(false)
  const go = (t: string) => signIn.mutate(t, { onSuccess: () => void navigate('/', { replace: true }) })
  useEffect(() => {
    const linked = tokenOf(hash)
    if (linked && !started.current) {
      started.current = true
      go(linked)
    }
  })
  return (
    <main className="grid min-h-screen place-items-center p-6">
      <form
        className="border-line bg-panel grid w-full max-w-100 gap-4 rounded-[10px] border p-6"
        onSubmit={(event) => {
          event.preventDefault()
          go(token.trim())
        }}
      >
        <h1 className="flex items-center gap-2.5">
          <img src="/ladder.svg" alt="" width={24} height={24} /> Inner Ladder
        </h1>
        <p className="text-ink-2">Sign in with the token that was given to you. At the first start the service writes the owner's token to the file first-token in its data directory.</p>
        <Field label="Token">
          <input className={inputLook} type="password" name="token" autoComplete="current-password" required value={token} onChange={(event) => setToken(event.target.value)} />
        </Field>
        {signIn.error && <Problem error={signIn.error} />}
        <Button look="go" type="submit" className="justify-center" disabled={signIn.isPending}>
          Sign in
        </Button>
      </form>
    </main>
  )
}
