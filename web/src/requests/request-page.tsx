import { useState } from 'react'
import { useParams } from 'react-router'

import type { RequestShown, Tried } from '../api/client'
import { useLike, useRequest, useTryAgain } from '../api/requests'
import { bytes, exact, ms, number } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, Facts, Loaded, PageHead, Panel, Problem, Ref, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { brief, columnsOf, values } from './columns'
import { DealtWith, Outcome } from './outcome'

/** One request: what was asked, what was answered, by whom; and what can be done with it. */
export function RequestPage() {
  const { request: id = '' } = useParams()
  const request = useRequest(id)
  return <Loaded query={request}>{(r) => <RequestView key={r.id} request={r} />}</Loaded>
}

function RequestView({ request: r }: { request: RequestShown }) {
  const [like, setLike] = useState(false)
  const again = useTryAgain(r.id)
  const [on, setOn] = useState(r.versions.includes(r.version ?? '') ? (r.version ?? '') : (r.versions[0] ?? ''))
  const whole = r.request !== undefined && !r.request_note
  const dealt = r.version && r.lane !== 'refused'
  return (
    <>
      <PageHead
        title={<span className="font-mono text-[0.8em]">{r.id}</span>}
        sub={
          <>
            {r.endpoint ? (
              <>
                a request to <To to={`/endpoints/${r.endpoint}`}>{r.endpoint}</To>, from{' '}
                <To to={`/endpoints/${r.endpoint}/requests`}>its log</To>
              </>
            ) : (
              'a request that found no endpoint'
            )}
          </>
        }
      >
        {dealt && (
          <To to={`/models/trace?from=${r.id}`}>
            <Button tabIndex={-1}>Where it came from</Button>
          </To>
        )}
        {r.request !== undefined && <Button onClick={() => setLike(true)}>The like of it</Button>}
        {whole && r.versions.length > 0 && (
          <>
            <Choice label="On" value={on} options={r.versions.map((v) => ({ value: v, text: v }))} onChange={setOn} />
            <Button look="go" disabled={again.isPending} onClick={() => again.mutate({ version: on })}>
              Try it again
            </Button>
          </>
        )}
      </PageHead>
      <div className="grid gap-4 lg:grid-cols-3">
        <Panel title="What became of it">
          <Facts
            empty=""
            rows={[
              ['ended', <Ago key="" at={r.ended} />],
              ['at', exact(new Date(r.ended))],
              ...(r.asked ? [['asked for', r.asked] as const] : []),
              ['how', <Outcome key="" request={r} />],
              ...(r.reason ? [['why', r.reason] as const] : []),
              ['by', <DealtWith key="" whole request={r} />],
              ...(r.split ? [['split', `#${r.split}, ${r.lane}`] as const] : []),
              ['key', r.key ?? 'none'],
              ...(r.total_us > 0
                ? [
                    ['took', ms(r.total_us / 1000)] as const,
                    ['of it the model server', ms(r.backend_us / 1000)] as const,
                  ]
                : []),
              ...(r.chance < 1 ? [['kept of such requests', `1 in ${number(1 / r.chance)}`] as const] : []),
            ]}
          />
        </Panel>
        <Body title="Asked" body={r.request} note={r.request_note} size={r.request_bytes} />
        <Body title="Answered" body={r.answer} note={r.answer_note} size={r.answer_bytes} />
      </div>
      {again.error && <Problem error={again.error} />}
      {again.data && <Again tried={again.data} />}
      {like && <Like id={r.id} />}
    </>
  )
}

function Body({ title, body, note, size }: { title: string; body: unknown; note: string | undefined; size: number }) {
  const columns = columnsOf(body)
  return (
    <Panel title={title} aside={<span className="text-ink-3 text-[12.5px]">{bytes(size)}</span>}>
      {note && <p className="text-trial mb-1 text-[12.5px]">{note}</p>}
      {columns.length > 0 ? (
        <Facts
          empty=""
          rows={columns.map(
            ([name, all]) =>
              [
                name,
                <span key="" className="tabular-nums">
                  {values(all, 8)}
                </span>,
              ] as const,
          )}
        />
      ) : body === undefined ? (
        !note && <Empty>There was none.</Empty>
      ) : (
        <pre className="text-[12.5px] break-words whitespace-pre-wrap">{JSON.stringify(body)}</pre>
      )}
    </Panel>
  )
}

function Again({ tried: t }: { tried: Tried }) {
  return (
    <Panel title="Tried again">
      {t.trouble ? (
        <p className="text-bad">
          ✕ <Ref to={t.version} /> did not answer: {t.trouble}
        </p>
      ) : (
        <>
          <p>
            <Ref to={t.version} /> answered with status {t.status} in {ms(t.took_ms)}: {brief(t.answer)}
          </p>
          {!t.compared ? (
            <p className="text-ink-2">What was answered then cannot be held against it.</p>
          ) : t.differences.length === 0 ? (
            <p className="text-main font-semibold">✓ the same as then</p>
          ) : (
            <ul className="text-trial">
              {t.differences.map((d) => (
                <li key={d}>{d}</li>
              ))}
            </ul>
          )}
          <p className="text-ink-3 mt-1 text-[12.5px]">
            No lane counts it, and the model server is told that nobody acts on it.
          </p>
        </>
      )}
    </Panel>
  )
}

function Like({ id }: { id: string }) {
  const like = useLike(id, true)
  return (
    <Panel title="The like of it: whose inputs are nearest">
      <Loaded query={like}>
        {(l) =>
          l.items.length === 0 ? (
            <Empty>No other request with inputs is kept.</Empty>
          ) : (
            <div className="overflow-x-auto">
              <table className="w-full border-collapse" aria-label="The like of it">
                <TableHead columns={['Distance', 'Ended, UTC', 'How', 'By', 'Asked', 'Answered']} />
                <tbody>
                  {l.items.map((n) => (
                    <tr key={n.id} className="border-line border-t *:py-1.5 *:pr-4 *:align-baseline">
                      <td className="tabular-nums">{n.distance.toFixed(3)}</td>
                      <td className="whitespace-nowrap tabular-nums">
                        <To to={`/requests/${n.id}`}>{exact(new Date(n.ended)).slice(5, 23)}</To>
                      </td>
                      <td>
                        <Outcome request={n} />
                      </td>
                      <td>
                        <DealtWith request={n} />
                      </td>
                      <td className="text-ink-2 max-w-[44ch] truncate text-[12.5px]">{brief(n.request)}</td>
                      <td className="max-w-[30ch] truncate text-[12.5px]">{n.reason ?? brief(n.answer)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              <p className="text-ink-3 mt-1 text-[12.5px]">
                Distance 0 is the same inputs, 1 as far apart as any of the {l.looked} that were looked at.
              </p>
            </div>
          )
        }
      </Loaded>
    </Panel>
  )
}
