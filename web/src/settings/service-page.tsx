import { useState } from 'react'

import {
  useAddProject,
  useHeaders,
  useRemoveHeader,
  useRetention,
  useRotateKey,
  useSetHeader,
  useSetRetention,
} from '../api/keeping'
import { useEnvironments, useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Ago, Button, Empty, Facts, Field, inputLook, Loaded, Panel } from '../ui/parts'

export function ServicePage() {
  const projects = useProjects()
  const environments = useEnvironments().data?.items ?? []
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel
          title="Projects"
          aside={
            <FormSheet title="Add a project" trigger={<Button>Add a project</Button>}>
              {(done) => <AddProject done={done} />}
            </FormSheet>
          }
        >
          <Loaded query={projects}>
            {(list) => (
              <Facts
                empty="There are none."
                rows={list.items.map(
                  (p) =>
                    [
                      p.name,
                      `${p.description}${p.description && ', '}${p.models === 1 ? '1 model' : `${p.models} models`}`,
                    ] as const,
                )}
              />
            )}
          </Loaded>
        </Panel>
        <RetentionPanel />
      </div>
      <Panel title="Headers for model servers">
        <p className="text-ink-2 mb-2">
          Sent to all model servers of an environment with every request and health check. Values are kept sealed and
          never shown again.
        </p>
        {environments.length === 0 ? (
          <Empty command="innerladder environment add plant-north">There are no environments yet.</Empty>
        ) : (
          <div className="grid gap-3">
            {environments.map((e) => (
              <Headers key={e.name} environment={e.name} />
            ))}
          </div>
        )}
      </Panel>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel
          title="Sealing key"
          aside={
            <FormSheet title="A new sealing key" trigger={<Button>Rotate</Button>}>
              {() => <Rotate />}
            </FormSheet>
          }
        >
          <p className="text-ink-2">
            Secrets are sealed with a key that lies in a file of its own, which is in no backup. Keep a copy of it
            apart: without it a restored service does not start.
          </p>
        </Panel>
        <Panel
          title="Backup"
          aside={
            <a href="/api/v1/backup">
              <Button tabIndex={-1}>Download a backup</Button>
            </a>
          }
        >
          <p className="text-ink-2">
            Everything that is kept, as it is at one moment, in one file; the service goes on meanwhile.
          </p>
          <Empty command="innerladder restore BACKUP.tar -data NEW-DIR -key-file KEY">It is put back with:</Empty>
        </Panel>
      </div>
    </>
  )
}

function AddProject({ done }: { done: () => void }) {
  const add = useAddProject()
  const [name, setName] = useState('')
  const [description, setDescription] = useState('')
  return (
    <Form
      submit="Add"
      pending={add.isPending}
      error={add.error}
      onSubmit={() => add.mutate({ name: name.trim(), description }, { onSuccess: done })}
    >
      <Field label="Name, in small letters">
        <input
          className={inputLook}
          name="name"
          required
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </Field>
      <Field label="Whose, and what for">
        <input className={inputLook} value={description} onChange={(event) => setDescription(event.target.value)} />
      </Field>
    </Form>
  )
}

function Headers({ environment }: { environment: string }) {
  const headers = useHeaders(environment)
  const remove = useRemoveHeader(environment)
  return (
    <div className="border-line flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t pt-2 first:border-0 first:pt-0">
      <b className="w-36 font-medium">{environment}</b>
      <Loaded query={headers}>
        {(list) =>
          list.items.length === 0 ? (
            <span className="text-ink-2">none</span>
          ) : (
            list.items.map((h) => (
              <span key={h.name}>
                {h.name}{' '}
                <span className="text-ink-2 text-[12.5px]">
                  by {h.set_by}, <Ago at={h.set_at} />
                </span>{' '}
                <button
                  type="button"
                  className="text-bad cursor-pointer text-[12.5px] underline underline-offset-3"
                  onClick={() => remove.mutate(h.name)}
                >
                  remove
                </button>
              </span>
            ))
          )
        }
      </Loaded>
      <FormSheet title={`A header for ${environment}`} trigger={<Button className="ml-auto">Set a header</Button>}>
        {(done) => <SetHeader environment={environment} done={done} />}
      </FormSheet>
    </div>
  )
}

function SetHeader({ environment, done }: { environment: string; done: () => void }) {
  const set = useSetHeader(environment)
  const [header, setHeader] = useState('Authorization')
  const [value, setValue] = useState('')
  return (
    <Form
      submit="Set it"
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate({ header: header.trim(), value }, { onSuccess: done })}
    >
      <Field label="Header">
        <input
          className={inputLook}
          name="header"
          required
          value={header}
          onChange={(event) => setHeader(event.target.value)}
        />
      </Field>
      <Field label="Value">
        <input
          className={inputLook}
          name="value"
          type="password"
          autoComplete="off"
          required
          value={value}
          onChange={(event) => setValue(event.target.value)}
        />
      </Field>
    </Form>
  )
}

const kept = {
  minutes: 'what lanes did by the minute',
  hours: 'by the hour',
  days: 'by the day',
  readings: 'what guards said, by the second',
  deliveries: 'the log of what was sent',
  notices: 'notices that were read',
  repeats: 'answers to repeated calls',
} as const
type Kept = keyof typeof kept

/** A duration such as 2160h in days where that is whole. */
const days = (d: string) => {
  const hours = /^(\d+)h(0m0s)?$/.exec(d)?.[1]
  return hours && Number(hours) % 24 === 0 ? `${Number(hours) / 24} days` : d
}

function RetentionPanel() {
  const retention = useRetention()
  return (
    <Panel
      title="How long it is kept"
      aside={
        <FormSheet title="How long it is kept" trigger={<Button>Change</Button>}>
          {(done) => <RetentionForm done={done} />}
        </FormSheet>
      }
    >
      <Loaded query={retention}>
        {(r) => (
          <Facts
            empty=""
            rows={[
              ...(Object.keys(kept) as Kept[]).map((k) => [kept[k], days(r[k])] as const),
              ['the record', 'for ever'] as const,
            ]}
          />
        )}
      </Loaded>
    </Panel>
  )
}

function RetentionForm({ done }: { done: () => void }) {
  const [before] = useState(useRetention().data)
  const set = useSetRetention()
  const [values, setValues] = useState<Record<string, string>>(() => ({ ...before }))
  return (
    <Form
      submit="Save"
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate(values, { onSuccess: done })}
    >
      {(Object.keys(kept) as Kept[]).map((k) => (
        <Field key={k} label={`${kept[k]}, such as 720h`}>
          <input
            className={inputLook}
            value={values[k] ?? ''}
            onChange={(event) => setValues({ ...values, [k]: event.target.value })}
          />
        </Field>
      ))}
    </Form>
  )
}

function Rotate() {
  const rotate = useRotateKey()
  const [reason, setReason] = useState('')
  if (rotate.data)
    return (
      <p>{rotate.data.secrets} secrets are sealed with a new key. Backups from before need the key file from before.</p>
    )
  return (
    <Form submit="Rotate" pending={rotate.isPending} error={rotate.error} onSubmit={() => rotate.mutate(reason)}>
      <Field label="Why">
        <input className={inputLook} value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
    </Form>
  )
}
