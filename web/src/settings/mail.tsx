import { useState } from 'react'
import { useMail, useSetMail, useTestMail } from '../api/keeping'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Facts, inputLook, Loaded, Panel, Problem, TextField } from '../ui/parts'
import { Deliveries } from './webhook-view'

export function MailPanel() {
  const mail = useMail()
  const test = useTestMail()
  return (
    <Panel
      title="E-mail"
      aside={
        <span className="flex gap-2">
          {mail.data?.host && <Button onClick={() => test.mutate()}>Send me a test</Button>}
          <FormSheet title="How e-mail is sent" trigger={<Button>Change</Button>}>
            {(done) => <MailForm done={done} />}
          </FormSheet>
        </span>
      }
    >
      <Loaded query={mail}>
        {(m) => (
          <Facts
            empty="No e-mail is sent."
            rows={
              m.host
                ? [
                    ['server', `${m.host}:${m.port ?? ''} (${m.tls ?? ''})`],
                    ['as', m.user || 'nobody'],
                    ['password', m.has_password ? 'kept, sealed' : 'none'],
                    ['from', m.from ?? ''],
                  ]
                : []
            }
          />
        )}
      </Loaded>
      {test.data && <p className="text-main mt-2">The mail server took it; look into your mail.</p>}
      {test.error && <Problem error={test.error} />}
      {mail.data?.host && (
        <div className="mt-2">
          <Deliveries webhook={0} />
        </div>
      )}
    </Panel>
  )
}

function MailForm({ done }: { done: () => void }) {
  const [before] = useState(useMail().data)
  const set = useSetMail()
  const [host, setHost] = useState(before?.host ?? '')
  const [port, setPort] = useState(String(before?.port ?? ''))
  const [tls, setTLS] = useState<'starttls' | 'tls' | 'none'>(before?.tls ?? 'starttls')
  const [user, setUser] = useState(before?.user ?? '')
  const [from, setFrom] = useState(before?.from ?? '')
  const [password, setPassword] = useState('')
  return (
    <Form
      submit="Save"
      pending={set.isPending}
      error={set.error}
      onSubmit={() =>
        set.mutate(
          { host: host.trim(), port: Number(port) || undefined, tls, user, from, password: password || undefined },
          { onSuccess: done },
        )
      }
    >
      <TextField label="SMTP server; empty sends no e-mail" name="host" value={host} onChange={setHost} />
      <div className="flex flex-wrap items-center gap-2">
        port
        <input
          className={`${inputLook} w-24!`}
          aria-label="Port"
          inputMode="numeric"
          value={port}
          onChange={(event) => setPort(event.target.value)}
        />
        <Choice
          label="How the connection is secured"
          value={tls}
          options={['starttls', 'tls', 'none'].map((t) => ({ value: t, text: t }))}
          onChange={(t) => setTLS(t as 'starttls' | 'tls' | 'none')}
        />
      </div>
      <TextField label="Name to sign in with there; may stay empty" value={user} onChange={setUser} />
      <TextField
        label={before?.has_password ? 'Password; the one that is kept stays when empty' : 'Password'}
        type="password"
        autoComplete="off"
        value={password}
        onChange={setPassword}
      />
      <TextField label="Sender" type="email" value={from} onChange={setFrom} />
    </Form>
  )
}
