import { useState } from 'react'

import { useHandleIncident, type ShownIncident } from '../api/incidents'
import { Form, FormSheet } from '../ui/form'
import { Ago, Button, Empty, Panel, Problem, TextField } from '../ui/parts'

/** Causes, follow-ups and notes: what people add. */
export function IncidentTalk({ incident: i, may }: { incident: ShownIncident; may: boolean }) {
  const handle = useHandleIncident(i.id)
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
      <Panel title="Cause and follow-ups" aside={may && <AddFollowUp id={i.id} />}>
        <p>{i.cause ? i.cause : <span className="text-ink-2">The cause was not found yet.</span>}</p>
        {may && <Say id={i.id} label={i.cause ? 'Change the cause' : 'Say the cause'} what="cause" />}
        <ul className="mt-2">
          {i.follow_ups.map((f) => (
            <li key={f.number} className="border-line flex items-baseline gap-2 border-t py-1.5">
              <input
                type="checkbox"
                aria-label={`${f.text} is done`}
                checked={!!f.done_at}
                disabled={!may || !!f.done_at || handle.isPending}
                onChange={() => handle.mutate({ done: f.number })}
              />
              <span className={f.done_at ? 'text-ink-3 line-through' : ''}>{f.text}</span>
              <span className="text-ink-2 ml-auto text-[12.5px]">
                {f.done_at ? `done by ${f.done_by ?? ''}` : [f.who, f.due && `by ${f.due}`].filter(Boolean).join(', ')}
              </span>
            </li>
          ))}
        </ul>
        {handle.error && <Problem error={handle.error} />}
      </Panel>
      <Panel title="Notes">
        {i.notes.length === 0 && <Empty>Nobody wrote anything yet.</Empty>}
        <ul>
          {i.notes.map((n) => (
            <li key={n.at + n.by} className="border-line border-t py-1.5 first:border-0">
              <b className="font-medium">{n.by}</b>{' '}
              <span className="text-ink-2">
                <Ago at={n.at} />
              </span>
              <div className="whitespace-pre-wrap">{n.text}</div>
            </li>
          ))}
        </ul>
        {may && <Say id={i.id} label="Write a note" what="note" />}
      </Panel>
    </div>
  )
}

function Say({ id, label, what }: { id: string; label: string; what: 'note' | 'cause' }) {
  return (
    <FormSheet
      title={`${id}: ${label.toLowerCase()}`}
      trigger={
        <button type="button" className="text-ink-2 mt-1 cursor-pointer text-[12.5px] underline underline-offset-3">
          {label.toLowerCase()}
        </button>
      }
    >
      {(done) => <SayForm id={id} label={label} what={what} done={done} />}
    </FormSheet>
  )
}

function SayForm({ id, label, what, done }: { id: string; label: string; what: 'note' | 'cause'; done: () => void }) {
  const handle = useHandleIncident(id)
  const [text, setText] = useState('')
  return (
    <Form
      submit={label}
      pending={handle.isPending}
      error={handle.error}
      onSubmit={() => handle.mutate({ [what]: text }, { onSuccess: done })}
    >
      <TextField label={what === 'note' ? 'Note' : 'Cause'} required value={text} onChange={setText} />
    </Form>
  )
}

function AddFollowUp({ id }: { id: string }) {
  return (
    <FormSheet title={`${id}: something to do`} trigger={<Button>Add something to do</Button>}>
      {(done) => <FollowUpForm id={id} done={done} />}
    </FormSheet>
  )
}

function FollowUpForm({ id, done }: { id: string; done: () => void }) {
  const handle = useHandleIncident(id)
  const [text, setText] = useState('')
  const [who, setWho] = useState('')
  const [due, setDue] = useState('')
  return (
    <Form
      submit="Add it"
      pending={handle.isPending}
      error={handle.error}
      onSubmit={() => handle.mutate({ follow_up: { text, who, due } }, { onSuccess: done })}
    >
      <TextField label="What is to be done" required value={text} onChange={setText} />
      <div className="grid grid-cols-2 gap-4">
        <TextField label="By whom" value={who} onChange={setWho} />
        <TextField label="Until (YYYY-MM-DD)" value={due} onChange={setDue} />
      </div>
    </Form>
  )
}
