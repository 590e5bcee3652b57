import { useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import type { Endpoint, KeptRequest } from '../api/client'
import { useMay } from '../api/people'
import { useEndpoint } from '../api/queries'
import { useRequests, type RequestFilter } from '../api/requests'
import { FormSheet } from '../ui/form'
import { count, exact, ms, share } from '../ui/format'
import { Switchboard } from '../ui/overlays'
import { Button, Empty, Loaded, PageHead, Panel, TextField, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { brief } from './columns'
import { KeepingForm } from './keeping-form'
import { DealtWith, Outcome } from './outcome'
import { Refusals } from './refusals'

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
        sub="names that do not exist, paths that lead nowhere, what is no good HTTP: often a caller whose address is wrong"
      />
      <Refusals endpoint={undefined} />
      <Found filter={{}} follow={false} empty={<Empty>Nobody has asked for what is not there.</Empty>} />
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
      <Found
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

/** Fields that narrow the list down when they are left or Enter is pressed. */
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

function Found({ filter, follow, empty }: { filter: RequestFilter; follow: boolean; empty: React.ReactNode }) {
  const found = useRequests(filter, follow)
  return (
    <Panel>
      <Loaded query={found}>
        {({ pages }) => {
          const last = pages.at(-1)
          const items = pages.flatMap((p) => p.items)
          return (
            <>
              {last?.trouble && (
                <p role="alert" className="border-bad bg-bad-soft mb-3 rounded-md border px-3 py-2">
                  ✕ Nothing is kept now: {last.trouble}.
                </p>
              )}
              {items.length === 0 ? empty : <Table items={items} />}
              <div className="text-ink-2 mt-2 flex flex-wrap items-center gap-3 text-[12.5px]">
                {found.hasNextPage && (
                  <Button onClick={() => void found.fetchNextPage()} disabled={found.isFetchingNextPage}>
                    Older ones
                  </Button>
                )}
                {last?.until && <span>Looked back to {exact(new Date(last.until))} so far.</span>}
                {(last?.lost ?? 0) > 0 && (
                  <span className="text-trial">
                    {count(last?.lost ?? 0)} of all endpoints could not be kept since the service started.
                  </span>
                )}
              </div>
            </>
          )
        }}
      </Loaded>
    </Panel>
  )
}

function Table({ items }: { items: KeptRequest[] }) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse" aria-label="Requests">
        <TableHead columns={['Ended, UTC', 'How', 'By', 'Took', 'Key', 'Asked', 'Answered']} />
        <tbody>
          {items.map((r) => (
            <tr key={r.id} className="border-line hover:bg-paper border-t *:py-1.5 *:pr-4 *:align-baseline">
              <td className="whitespace-nowrap tabular-nums">
                <Link
                  className="text-main underline underline-offset-3"
                  to={`/requests/${r.id}`}
                  title={exact(new Date(r.ended))}
                >
                  {exact(new Date(r.ended)).slice(5, 23)}
                </Link>
              </td>
              <td>
                <Outcome request={r} />
              </td>
              <td>
                <DealtWith request={r} />
              </td>
              <td className="text-right whitespace-nowrap tabular-nums">
                {r.total_us > 0 ? ms(r.total_us / 1000) : '–'}
              </td>
              <td>{r.key ?? <span className="text-ink-3">–</span>}</td>
              <td className="text-ink-2 max-w-[34ch] truncate text-[12.5px]">{r.asked ?? brief(r.request)}</td>
              <td className="max-w-[34ch] truncate text-[12.5px]">{r.reason ?? brief(r.answer)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
