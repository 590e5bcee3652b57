import { ChevronDown, ChevronRight, ShieldAlert, ShieldCheck } from 'lucide-react'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import type { Entry } from '../api/client'
import {
  useAudit,
  useMay,
  useMe,
  usePeople,
  useRemoveSearch,
  useSaveSearch,
  useSearches,
  useVerify,
  type AuditSearch,
} from '../api/people'
import { useProjects } from '../api/queries'
import { count } from '../ui/format'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, Field, inputLook, Loaded, PageHead, Panel, Problem, Subject } from '../ui/parts'

const members = ['text', 'kind', 'actor', 'subject', 'project', 'within', 'after', 'until'] as const
const spans = {
  '': 'any time',
  '1h': 'the last hour',
  '24h': 'the last day',
  '168h': 'the last week',
  '720h': 'the last 30 days',
  between: 'between…',
} as const
const kinds = [
  '',
  'alert',
  'caller',
  'comment',
  'data',
  'endpoint',
  'environment',
  'files',
  'key',
  'label',
  'member',
  'model',
  'person',
  'placement',
  'project',
  'promotion',
  'role',
  'run',
  'secret',
  'service',
  'settings',
  'split',
  'token',
  'version',
  'webhook',
]

function queryOf(params: URLSearchParams): AuditSearch {
  return Object.fromEntries(members.map((m) => [m, params.get(m) ?? '']).filter(([, v]) => v !== ''))
}

/** Values before and after, address and request: what the record knows of a line beyond its sentence. */
function Values({ entry: e }: { entry: Entry }) {
  const pretty = (v: unknown) => JSON.stringify(v, null, 2)
  return (
    <div className="bg-paper border-line mt-1 mb-2 grid gap-2 rounded-md border p-3 text-[12.5px]">
      <span className="text-ink-2">
        {e.kind} · line {e.seq}
        {e.project && ` · project ${e.project}`}
        {e.address && ` · from ${e.address}`}
        {e.request_id && ` · request ${e.request_id}`}
      </span>
      {(e.before !== undefined || e.after !== undefined) && (
        <div className="grid gap-3 md:grid-cols-2">
          {(['before', 'after'] as const).map((side) => (
            <div key={side} className="min-w-0">
              <b>{side}</b>
              <pre className="max-h-72 overflow-auto whitespace-pre-wrap">
                {e[side] === undefined ? 'nothing' : pretty(e[side])}
              </pre>
            </div>
          ))}
        </div>
      )}
    </div>
  )
}

function Line({ entry: e }: { entry: Entry }) {
  const [open, setOpen] = useState(false)
  return (
    <li className="border-line border-t py-1.5 first:border-0">
      <div className="grid grid-cols-[18px_minmax(0,1fr)] gap-x-2 md:grid-cols-[18px_minmax(0,1fr)_250px_150px]">
        <button
          type="button"
          className="text-ink-3 cursor-pointer self-center"
          aria-label={`Values of line ${e.seq}`}
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
        </button>
        <span className="min-w-0 break-words">
          {e.sentence}
          {e.reason && !e.sentence.includes(e.reason) && <span className="text-ink-2"> “{e.reason}”</span>}
        </span>
        <span className="text-ink-2 col-start-2 truncate text-[12.5px] md:col-start-auto">
          {e.kind} · <Subject kind={e.kind} subject={e.subject} />
        </span>
        <span className="text-ink-2 col-start-2 text-[12.5px] md:col-start-auto md:text-right">
          {e.actor}, <Ago at={e.at} />
        </span>
      </div>
      {open && <Values entry={e} />}
    </li>
  )
}

/** Whether the record is what was written, as far as the service can tell by itself. */
function Verify() {
  const verify = useVerify()
  const found = verify.data
  return (
    <>
      <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
        {verify.isPending ? 'Reading all of it…' : 'Verify'}
      </Button>
      {verify.error && <Problem error={verify.error} />}
      {found && (
        <div
          role="status"
          className={`flex w-full items-start gap-2 rounded-md border px-3 py-2 ${found.breaks.length === 0 ? 'border-main bg-main-soft' : 'border-bad bg-bad-soft'}`}
        >
          {found.breaks.length === 0 ? (
            <ShieldCheck size={16} className="text-main mt-0.5" aria-hidden />
          ) : (
            <ShieldAlert size={16} className="text-bad mt-0.5" aria-hidden />
          )}
          <span className="min-w-0">
            {found.breaks.length === 0
              ? `Intact: all ${count(found.lines)} lines are as they were written.`
              : found.breaks.map((b) => b.sentence).join('; ')}
            <span className="text-ink-2 block text-[12.5px] break-all">
              read in {found.ms} ms · head {found.head}
            </span>
          </span>
        </div>
      )}
    </>
  )
}

function SaveSearch({ query }: { query: AuditSearch }) {
  return (
    <FormSheet title="Save this search" trigger={<Button>Save search</Button>}>
      {(done) => <SaveForm query={query} done={done} />}
    </FormSheet>
  )
}

function SaveForm({ query, done }: { query: AuditSearch; done: () => void }) {
  const save = useSaveSearch()
  const [name, setName] = useState('')
  const [shared, setShared] = useState(false)
  return (
    <Form
      submit="Save"
      pending={save.isPending}
      error={save.error}
      onSubmit={() => save.mutate({ name, shared, query: query as Record<string, string> }, { onSuccess: done })}
    >
      <Field label="Name">
        <input className={inputLook} required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={shared} onChange={(event) => setShared(event.target.checked)} /> everyone who
        may search the record can use it
      </label>
    </Form>
  )
}

export function AuditPage() {
  const [params, setParams] = useSearchParams()
  const query = queryOf(params)
  // What is being typed; the address of the page follows it.
  const [text, setText] = useState(query.text ?? '')
  const [subject, setSubject] = useState(query.subject ?? '')
  const [between, setBetween] = useState(!!(query.after ?? query.until))
  const begin = (search: Record<string, string>) => {
    setBetween(!!(search.after ?? search.until))
    setText(search.text ?? '')
    setSubject(search.subject ?? '')
    setParams(search, { replace: true })
  }
  const audit = useAudit(query)
  const searches = useSearches().data?.items ?? []
  const remove = useRemoveSearch()
  const me = useMe().data?.name
  const people = usePeople().data?.items ?? []
  const projects = useProjects().data?.items ?? []
  const whole = useMay('audit', '*')
  const set = (name: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value)
        else p.delete(name)
        return p
      },
      { replace: true },
    )
  const choice = (label: string, name: string, any: string, options: string[]) => (
    <Choice
      label={label}
      value={params.get(name) || any}
      options={[any, ...options].map((o) => ({ value: o, text: o }))}
      onChange={(v) => set(name, v === any ? '' : v)}
    />
  )
  return (
    <>
      <PageHead
        title="Audit"
        sub="who did what, when and why, with values before and after; nothing is ever changed or removed"
      >
        <a href={`/api/v1/audit/export?${new URLSearchParams(query as Record<string, string>).toString()}`}>
          <Button tabIndex={-1}>Export</Button>
        </a>
        <SaveSearch query={query} />
        {whole && <Verify />}
      </PageHead>
      <Panel>
        <div className="mb-3 flex flex-wrap items-center gap-2">
          <input
            className={`${inputLook} w-52!`}
            aria-label="Words"
            placeholder="words"
            value={text}
            onChange={(event) => (setText(event.target.value), set('text', event.target.value))}
          />
          <input
            className={`${inputLook} w-44!`}
            aria-label="About"
            placeholder="about: heat-demand@2"
            value={subject}
            onChange={(event) => (setSubject(event.target.value), set('subject', event.target.value.trim()))}
          />
          {choice('Kind', 'kind', 'any kind', kinds.filter(Boolean))}
          {choice('By', 'actor', 'anybody', ['inner-ladder', ...people.map((p) => p.name)])}
          {choice(
            'Project',
            'project',
            'all projects',
            projects.map((p) => p.name),
          )}
          <Choice
            label="When"
            value={between ? 'between' : (query.within ?? 'any')}
            options={Object.entries(spans).map(([v, text]) => ({ value: v || 'any', text }))}
            onChange={(v) => {
              setBetween(v === 'between')
              setParams(
                (p) => {
                  for (const name of ['after', 'until', 'within']) p.delete(name)
                  if (v !== 'any' && v !== 'between') p.set('within', v)
                  return p
                },
                { replace: true },
              )
            }}
          />
          {between && (
            <>
              <input
                className={`${inputLook} w-38!`}
                type="date"
                aria-label="From"
                value={query.after?.slice(0, 10) ?? ''}
                onChange={(event) => set('after', event.target.value)}
              />
              <input
                className={`${inputLook} w-38!`}
                type="date"
                aria-label="Before"
                value={query.until?.slice(0, 10) ?? ''}
                onChange={(event) => set('until', event.target.value)}
              />
            </>
          )}
          {Object.keys(query).length > 0 && (
            <button
              type="button"
              className="text-ink-2 cursor-pointer underline underline-offset-3"
              onClick={() => begin({})}
            >
              clear
            </button>
          )}
        </div>
        {searches.length > 0 && (
          <div className="text-ink-2 mb-3 flex flex-wrap items-center gap-2 text-[12.5px]">
            saved:
            {searches.map((s) => (
              <span key={s.id} className="border-line inline-flex items-center gap-1.5 rounded-full border px-2">
                <button type="button" className="hover:text-ink cursor-pointer" onClick={() => begin(s.query)}>
                  {s.name}
                  {s.owner !== me && `, by ${s.owner}`}
                </button>
                {s.owner === me && (
                  <button
                    type="button"
                    className="hover:text-bad cursor-pointer"
                    aria-label={`Forget ${s.name}`}
                    onClick={() => remove.mutate(s.id)}
                  >
                    ×
                  </button>
                )}
              </span>
            ))}
          </div>
        )}
        <Loaded query={audit}>
          {(list) => {
            const items = list.pages.flatMap((p) => p.items)
            return items.length === 0 ? (
              <Empty>The record has nothing of the kind.</Empty>
            ) : (
              <ol>
                {items.map((e) => (
                  <Line key={e.seq} entry={e} />
                ))}
              </ol>
            )
          }}
        </Loaded>
        {audit.hasNextPage && (
          <div className="mt-3 text-center">
            <Button disabled={audit.isFetchingNextPage} onClick={() => void audit.fetchNextPage()}>
              Show more
            </Button>
          </div>
        )}
      </Panel>
    </>
  )
}
