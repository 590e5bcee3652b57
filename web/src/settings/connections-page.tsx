import { useState } from 'react'

import type { Webhook } from '../api/client'
import {
  useAddWebhook,
  useDeliveries,
  useMail,
  useRemoveWebhook,
  useSendAgain,
  useSetMail,
  useTestMail,
  useWebhooks,
} from '../api/keeping'
import { useMay } from '../api/people'
import { useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, Facts, Field, inputLook, Loaded, Panel, Problem, Tag } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'

export function ConnectionsPage() {
  const webhooks = useWebhooks()
  const administers = useMay('administer', '*')
  return (
    <>
      <Panel
        title="Webhooks"
        aside={
          <FormSheet title="Add a webhook" trigger={<Button>Add a webhook</Button>}>
            {() => <AddWebhook />}
          </FormSheet>
        }
      >
        <p className="text-ink-2 mb-2">What happens is sent as CloudEvents, signed, and tried again for about a day.</p>
        <Loaded query={webhooks}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command="innerladder webhook add https://… -project forecasting -kind split -kind alert">
                Nothing is told yet.
              </Empty>
            ) : (
              <div className="grid gap-4">
                {list.items.map((w) => (
                  <WebhookView key={w.id} webhook={w} />
                ))}
              </div>
            )
          }
        </Loaded>
      </Panel>
      {administers && <MailPanel />}
    </>
  )
}

function WebhookView({ webhook: w }: { webhook: Webhook }) {
  const remove = useRemoveWebhook()
  const [open, setOpen] = useState(false)
  return (
    <div className="border-line border-t pt-2 first:border-0 first:pt-0">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="min-w-0 break-all">
          <b className="font-medium">{w.address}</b>{' '}
          <span className="text-ink-2">
            {w.kinds.length ? w.kinds.join(', ') : 'everything'} in {w.project === '*' ? 'all projects' : w.project}
          </span>
        </span>
        <span className="text-ink-2 flex items-baseline gap-3 text-[12.5px]">
          {w.made_by}, <Ago at={w.made_at} />
          <button type="button" className="cursor-pointer underline underline-offset-3" onClick={() => setOpen(!open)}>
            {open ? 'hide deliveries' : 'deliveries'}
          </button>
          <button
            type="button"
            className="text-bad cursor-pointer underline underline-offset-3"
            onClick={() => remove.mutate(w.id)}
          >
            remove
          </button>
        </span>
      </div>
      {open && <Deliveries webhook={w.id} />}
    </div>
  )
}

const tones = { waiting: 'trial', delivered: 'main', failed: 'bad' } as const

function Deliveries({ webhook }: { webhook: number }) {
  const deliveries = useDeliveries(webhook)
  const again = useSendAgain()
  return (
    <Loaded query={deliveries}>
      {(list) =>
        list.items.length === 0 ? (
          <Empty>Nothing was sent yet.</Empty>
        ) : (
          <ul className="mt-1">
            {list.items.map((d) => (
              <li
                key={d.id}
                className="border-line grid items-baseline gap-x-3 border-t py-1 text-[12.5px] md:grid-cols-[90px_minmax(0,1fr)_minmax(0,1fr)_auto]"
              >
                <Tag tone={tones[d.state]}>{d.state}</Tag>
                <span className="min-w-0 truncate">
                  {d.entry.kind}: {d.entry.sentence} {d.person && `to ${d.person}`}
                </span>
                <span className="text-ink-2 min-w-0 truncate">
                  {d.tries > 0 && `${d.tries === 1 ? '1 try' : `${d.tries} tries`}: `}
                  {d.answer}
                </span>
                <span className="text-ink-2 flex gap-2">
                  <Ago at={d.done_at ?? d.made_at} />
                  <button
                    type="button"
                    className="cursor-pointer underline underline-offset-3"
                    onClick={() => again.mutate(d.id)}
                  >
                    send again
                  </button>
                </span>
              </li>
            ))}
          </ul>
        )
      }
    </Loaded>
  )
}

function AddWebhook() {
  const add = useAddWebhook()
  const projects = useProjects().data?.items ?? []
  const everything = useMay('manage', '*')
  const [address, setAddress] = useState('')
  const [project, setProject] = useState('')
  const [kinds, setKinds] = useState('')
  if (add.data)
    return (
      <ShownOnce
        what="What is sent is signed with this secret, as the Standard Webhooks specification says."
        secret={add.data.secret}
      />
    )
  return (
    <Form
      submit="Add"
      pending={add.isPending || !project}
      error={add.error}
      onSubmit={() => add.mutate({ address: address.trim(), project, kinds: kinds.split(/[\s,]+/).filter(Boolean) })}
    >
      <Field label="Address">
        <input
          className={inputLook}
          name="address"
          type="url"
          placeholder="https://"
          required
          value={address}
          onChange={(event) => setAddress(event.target.value)}
        />
      </Field>
      <div className="flex items-center gap-2">
        of what happens in
        <Choice
          label="Project"
          value={project}
          options={[
            ...(everything ? [{ value: '*', text: 'all projects' }] : []),
            ...projects.map((p) => ({ value: p.name, text: p.name })),
          ]}
          onChange={setProject}
        />
      </div>
      <Field label="Kinds, such as split or alert.raised; everything when empty">
        <input className={inputLook} name="kinds" value={kinds} onChange={(event) => setKinds(event.target.value)} />
      </Field>
    </Form>
  )
}

function MailPanel() {
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
      <Field label="SMTP server; empty sends no e-mail">
        <input className={inputLook} name="host" value={host} onChange={(event) => setHost(event.target.value)} />
      </Field>
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
      <Field label="Name to sign in with there; may stay empty">
        <input className={inputLook} value={user} onChange={(event) => setUser(event.target.value)} />
      </Field>
      <Field label={before?.has_password ? 'Password; the one that is kept stays when empty' : 'Password'}>
        <input
          className={inputLook}
          type="password"
          autoComplete="off"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
      </Field>
      <Field label="Sender">
        <input className={inputLook} type="email" value={from} onChange={(event) => setFrom(event.target.value)} />
      </Field>
    </Form>
  )
}
