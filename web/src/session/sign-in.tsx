import { useState, type FormEvent, type ReactNode } from 'react'
import { useLocation, useNavigate } from 'react-router'

import { useComeIn, useLink, useSignIn, useWaysIn } from '../api/people'
import { Button, Problem, TextField } from '../ui/parts'
import { NewPassword } from './new-password'

/** The frame of the pages that are seen before one is signed in. */
function Door({ children, onSubmit }: { children: ReactNode; onSubmit: (event: FormEvent) => void }) {
  return (
    <main className="grid min-h-screen place-items-center p-6">
      <form
        className="border-line bg-panel grid w-full max-w-100 gap-4 rounded-[10px] border p-6"
        onSubmit={(event) => {
          event.preventDefault()
          onSubmit(event)
        }}
      >
        <h1 className="flex items-center gap-2.5">
          <img src="/ladder.svg" alt="" width={24} height={24} /> Inner Ladder
        </h1>
        {children}
      </form>
    </main>
  )
}

export function SignIn() {
  const navigate = useNavigate()
  const ways = useWaysIn().data
  const signIn = useSignIn()
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  return (
    <Door
      onSubmit={() =>
        signIn.mutate({ name: name.trim(), password }, { onSuccess: () => void navigate('/', { replace: true }) })
      }
    >
      {ways?.empty && (
        <p className="text-ink-2">
          Nobody is here yet. The service printed a link for the first owner when it started; open that.
        </p>
      )}
      {ways?.provider && (
        <>
          <a
            href="/api/v1/session/provider"
            className="border-line-strong hover:bg-paper rounded-md border px-3 py-1.5 text-center font-medium"
          >
            Sign in by {ways.provider}
          </a>
          <p className="text-ink-3 text-center text-[12.5px]">or with a password</p>
        </>
      )}
      <TextField
        label="Name"
        name="name"
        autoComplete="username"
        autoCapitalize="none"
        autoFocus
        required
        value={name}
        onChange={setName}
      />
      <TextField
        label="Password"
        type="password"
        name="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={setPassword}
      />
      {signIn.error && <Problem error={signIn.error} />}
      <Button look="go" type="submit" className="justify-center" disabled={signIn.isPending}>
        Sign in
      </Button>
      <p className="text-ink-3 text-[12.5px]">Forgot the password? An owner can make you a new link.</p>
    </Door>
  )
}

/** Where a link leads that lets someone in once: they choose a password, the first owner also a name. */
export function Welcome() {
  const navigate = useNavigate()
  const secret = useLocation().hash.replace(/^#/, '')
  const link = useLink(secret)
  const comeIn = useComeIn()
  const [name, setName] = useState('')
  const [chosen, setChosen] = useState({ password: '', again: '' })
  const differ = chosen.password !== chosen.again
  const first = link.data?.first
  if (link.error || secret === '') {
    return (
      <Door onSubmit={() => void navigate('/sign-in')}>
        {link.error ? <Problem error={link.error} /> : <p>The link is not whole: copy it to its end.</p>}
        <Button type="submit" className="justify-center">
          To the sign-in
        </Button>
      </Door>
    )
  }
  if (!link.data) return null
  return (
    <Door
      onSubmit={() =>
        !differ &&
        comeIn.mutate(
          { secret, name: first ? name.trim() : undefined, password: chosen.password },
          { onSuccess: () => void navigate('/', { replace: true }) },
        )
      }
    >
      <p className="text-ink-2">
        {first
          ? 'Welcome. You are the first here, and will keep the service: choose the name that everybody will see, and a password.'
          : `Welcome, ${link.data.name ?? ''}. Choose a password.`}
      </p>
      {first && (
        <TextField
          label="Name, in small letters"
          name="name"
          autoComplete="username"
          autoCapitalize="none"
          required
          value={name}
          onChange={setName}
        />
      )}
      <NewPassword chosen={chosen} onChange={setChosen} />
      {comeIn.error && <Problem error={comeIn.error} />}
      <Button look="go" type="submit" className="justify-center" disabled={comeIn.isPending}>
        Come in
      </Button>
    </Door>
  )
}
