import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'

import type { Endpoint } from '../api/client'
import { useMay } from '../api/people'
import { useEndpoint } from '../api/queries'
import type { RequestFilter } from '../api/requests'
import { FormSheet } from '../ui/form'
import { count, share } from '../ui/format'
import { Switchboard } from '../ui/overlays'
import { Button, Empty, Loaded, PageHead, TextField, To } from '../ui/parts'
import { KeepingForm } from './keeping-form'
import { Refusals } from './refusals'
import { RequestList } from './request-list'

const windows: Record<string, string | undefined> = {
  '10 min': '10m',
  '1 h': '1h',
  '1 day': '24h',
  'all that is kept': undefined,
}

const kinds: Record<string, RequestFilter> = {
  all: {},
  'in trouble': { trouble: true },
  'turned away': { outcome: 'refused' },
}

/** The log of an endpoint's requests. */
export function RequestsPage() {
  const { endpoint: name = '' } = useParams()
  const endpoint = useEndpoint(name)
  return <Loaded query={endpoint}>{(e) => <Log endpoint={e} />}</Loaded>
}

/** The requests that found no endpoint. */
export function StrayRequestsPage() {
  return (
    <>
      <PageHead
        title="Requests that found no endpoint"
        sub="names that do not exist, paths that lead nowhere, what is no HTTP: often a caller with a wrong address"
      />
      <Refusals endpoint={undefined} />
      <RequestList filter={{}} follow={false} empty={<Empty>Nobody has asked for what is not there.</Empty>} />
    </>
  )
}

function Log({ endpoint: e }: { endpoint: Endpoint }) {
  const [params, setParams] = useSearchParams()
  const mayRoute = useMay('route', e.project)
  const set = (values: Record<string, string>) => {
    const next = Object.entries({ ...Object.fromEntries(params), ...values }).filter(([, value]) => value !== '')
    setParams(Object.fromEntries(next), { replace: true })
  }
  const [follow, setFollow] = useState(true)
  const kind = params.get('which') ?? 'all'
  const over = params.get('over') ?? 'all that is kept'
  const filter: RequestFilter = {
    endpoint: e.name,
    ...kinds[kind],
    window: windows[over],
    where: params.get('where') ?? undefined,
    version: params.get('version') ?? undefined,
    key: params.get('key') ?? undefined,
    slower: params.get('slower') ?? undefined,
  }
  return (
    <>
      <PageHead
        title="Requests"
        sub={
          <>
            what was asked of <To to={`/endpoints/${e.name}`}>{e.name}</To> and answered, newest first. {kept(e)}
          </>
        }
      >
        <Switchboard label="Which" value={kind} options={Object.keys(kinds)} onChange={(k) => set({ which: k })} />
        <Switchboard label="Window" value={over} options={Object.keys(windows)} onChange={(w) => set({ over: w })} />
        <Button aria-pressed={follow} onClick={() => setFollow(!follow)}>
          {follow ? 'Hold the list' : 'Follow'}
        </Button>
        {mayRoute && (
          <FormSheet title={`What is kept of requests to ${e.name}`} trigger={<Button>What is kept</Button>}>
            {(done) => <KeepingForm endpoint={e} done={done} />}
          </FormSheet>
        )}
      </PageHead>
      <Refusals endpoint={e.name} />
      <Narrow params={params} set={set} model={e.model} />
      <RequestList
        filter={filter}
        follow={follow}
        empty={
          <Empty command={`innerladder requests ${e.name}`}>
            No such request is kept. Each can be looked for by command too:
          </Empty>
        }
      />
    </>
  )
}

/** What an endpoint keeps, in words. */
function kept(e: Endpoint) {
  const k = e.requests
  const most = k.per_second > 0 ? `, about ${count(k.per_second)} a second at most,` : ''
  return `${share(k.share)} of those without a fault${most} and all others are kept for ${k.for}.`
}

const narrowing = ['where', 'version', 'key', 'slower']

/** Fields that narrow the list down once Look or Enter is pressed. */
function Narrow({
  params,
  set,
  model,
}: {
  params: URLSearchParams
  set: (values: Record<string, string>) => void
  model: string
}) {
  return (
    <form
      className="grid grid-cols-2 items-end gap-3 lg:grid-cols-[2fr_1fr_1fr_1fr_auto]"
      key={params.toString()}
      onSubmit={(event) => {
        event.preventDefault()
        const form = new FormData(event.currentTarget)
        set(Object.fromEntries(narrowing.map((key) => [key, String(form.get(key) ?? '').trim()])))
      }}
    >
      <Narrowing name="where" label="Inputs and outputs" hint="wind<3, mix=harbour" params={params} />
      <Narrowing name="version" label="Version" hint={`${model}@2`} params={params} />
      <Narrowing name="key" label="Whose key" hint="planning-tool" params={params} />
      <Narrowing name="slower" label="Took at least" hint="200ms" params={params} />
      <Button type="submit">Look</Button>
    </form>
  )
}

function Narrowing(p: { name: string; label: string; hint: string; params: URLSearchParams }) {
  const [text, setText] = useState(p.params.get(p.name) ?? '')
  return <TextField name={p.name} label={p.label} placeholder={p.hint} value={text} onChange={setText} />
}
