import { useMutation } from '@tanstack/react-query'

import type { components } from '../api/schema'
import { explainVersions } from '../api/running'
import { number } from '../ui/format'
import { Button, Problem } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { requestOf, type Tensor, type TryRow } from './request'

type Explained = components['schemas']['Explained']
type Moved = components['schemas']['MovedBy']

/** Which inputs moved what the versions predict for a row, and how sure that is. */
export function Why({
  environment,
  versions,
  inputs,
  row,
}: {
  environment: string
  versions: string[]
  inputs: Tensor[]
  row: TryRow
}) {
  const why = useMutation({
    mutationFn: () => explainVersions({ versions, environment, request: requestOf(inputs, [row]) }),
  })
  return (
    <div className="grid gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <Button onClick={() => why.mutate()} disabled={why.isPending}>
          {why.isPending ? 'Asking…' : 'Why?'}
        </Button>
        <span className="text-ink-2 text-[13px]">
          against rows drawn from the reference profile, in {why.data?.pairs ?? 100} orders of the inputs, forwards and
          backwards
        </span>
      </div>
      {why.error && <Problem error={why.error} />}
      {why.data && <Table explained={why.data} />}
    </div>
  )
}

function Table({ explained: e }: { explained: Explained }) {
  const first = e.items[0]
  const order = e.inputs
    .map((_, i) => i)
    .sort((a, b) => Math.abs(first?.moved[b]?.by ?? 0) - Math.abs(first?.moved[a]?.by ?? 0))
  const most = Math.max(...e.items.flatMap((v) => v.moved.map((m) => Math.abs(m.by) + m.error)), Number.MIN_VALUE)
  return (
    <div className="overflow-x-auto">
      {e.items.map((v) => (
        <p key={v.version} className="text-[13.5px]">
          <b>{v.version}</b> gives {number(v.value)} for {v.output}; the background gives {number(v.base)}{' '}
          <span className="text-ink-2">± {number(v.base_error)}</span> on the average
        </p>
      ))}
      <table className="mt-2 text-[13px]" data-why>
        <TableHead columns={['input', 'value', ...e.items.flatMap((v) => [`${v.version}, moved by`, ''])]} />
        <tbody>
          {order.map((i) => (
            <tr key={e.inputs[i]?.name} className="border-line border-t *:py-1 *:pr-4">
              <td>{e.inputs[i]?.name}</td>
              <td>{shown(e.inputs[i]?.value)}</td>
              {e.items.map((v) => (
                <Cells key={v.version} moved={v.moved[i]} most={most} />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {e.fixed && e.fixed.length > 0 && (
        <p className="text-ink-2 mt-1 text-[12.5px]">
          kept as they are, because no reference profile has them: {e.fixed.join(', ')}
        </p>
      )}
    </div>
  )
}

const shown = (v: unknown) => (typeof v === 'string' ? v : JSON.stringify(v))

/** By how much an input moved a prediction: a bar from the middle, with the interval of 95 % as a whisker. */
function Cells({ moved: m, most }: { moved?: Moved; most: number }) {
  if (!m) return <td colSpan={2}>–</td>
  const at = (x: number) => 60 + (56 * x) / most
  const sure = Math.abs(m.by) > m.error
  return (
    <>
      <td>
        <svg viewBox="0 0 120 14" className="h-3.5 w-36" aria-hidden>
          <line x1="60" x2="60" y1="0" y2="14" stroke="var(--ink-3)" />
          <rect
            x={Math.min(at(0), at(m.by))}
            width={Math.max(0.5, Math.abs(at(m.by) - at(0)))}
            y="3"
            height="8"
            fill={sure ? 'var(--main)' : 'var(--line-strong)'}
          />
          <line x1={at(m.by - m.error)} x2={at(m.by + m.error)} y1="7" y2="7" stroke="var(--ink)" />
        </svg>
      </td>
      <td className="whitespace-nowrap">
        {m.by > 0 ? '+' : ''}
        {number(m.by)} <span className="text-ink-2 text-[12px]">± {number(m.error)}</span>{' '}
        {!sure && (
          <span className="text-ink-2 text-[12px]">{m.error === 0 ? 'does not matter' : 'not sure which way'}</span>
        )}
      </td>
    </>
  )
}
