import type { ReactNode } from 'react'
import { Link } from 'react-router'

import type { KeptRequest } from '../api/client'
import { useRequests, type RequestFilter } from '../api/requests'
import { count, exact, ms } from '../ui/format'
import { Button, Loaded, Panel } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { brief } from './columns'
import { DealtWith, Outcome } from './outcome'

/** The requests that a filter leaves, with a way to older ones. */
export function RequestList({ filter, follow, empty }: { filter: RequestFilter; follow: boolean; empty: ReactNode }) {
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
              {items.length === 0 ? empty : <Table items={items} lookedFor={columnsIn(filter.where)} />}
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

/** The columns that conditions are about. */
const columnsIn = (where: string | undefined) =>
  (where ?? '').split(',').map((c) => (/^[^=<>!]*/.exec(c)?.[0] ?? '').trim())

function Table({ items, lookedFor }: { items: KeptRequest[]; lookedFor: string[] }) {
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
              <td className="text-ink-2 max-w-[34ch] truncate text-[12.5px]">
                {r.asked ?? brief(r.request, lookedFor)}
              </td>
              <td className="max-w-[34ch] truncate text-[12.5px]">{r.reason ?? brief(r.answer)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
