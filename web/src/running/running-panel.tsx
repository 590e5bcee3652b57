import type { Replica, Running } from '../api/running'
import { useRunning, useRunningLog } from '../api/running'
import { LineFigure } from '../charts/line-figure'
import { FormSheet } from '../ui/form'
import { bytes, number } from '../ui/format'
import { Ago, Loaded, Panel, Ref, Tag } from '../ui/parts'
import { TableHead } from '../ui/table-head'

/** What runs of some versions on the service's machine, and what it uses over time; nothing where nothing does. */
export function RunningPanel({ versions, environment }: { versions?: string[]; environment?: string }) {
  const running = useRunning()
  const all = (running.data?.items ?? []).filter(
    (r) => (!versions || versions.includes(r.version)) && (environment === undefined || r.environment === environment),
  )
  if (all.length === 0) return null
  return (
    <Panel title="What runs on this service’s machine">
      <div className="grid gap-5">
        {all.map((r) => (
          <RunningView key={`${r.version} ${r.environment}`} running={r} />
        ))}
      </div>
    </Panel>
  )
}

function RunningView({ running: r }: { running: Running }) {
  const range = r.runner.replicas
  const drawn = r.replicas.filter((p) => p.series.length > 1)
  return (
    <section aria-label={`${r.version} in ${r.environment}`} className="grid gap-2">
      <p className="text-[13px]">
        <b>{r.version}</b> in {r.environment},{' '}
        {r.runner.template
          ? `by the runner template ${r.runner.template}`
          : `from its ${r.runner.format?.toUpperCase()} file`}
        :{' '}
        {range.most > range.least
          ? `${range.least} to ${range.most} replicas, as the load wants`
          : `${range.least} wanted`}
        {r.runner.batch_rows > 1 &&
          `; up to ${r.runner.batch_rows} rows of several requests are computed together, ` +
            `which wait at most ${r.runner.batch_wait_ms} ms`}
      </p>
      <div className="overflow-x-auto">
        <table className="w-full text-[13px]">
          <TableHead
            columns={[
              'replica',
              'state',
              'since',
              'started again',
              'processor',
              'memory',
              'files',
              'requests',
              'together',
              '',
            ]}
          />
          <tbody>
            {r.replicas.map((p) => (
              <ReplicaRow key={p.number} running={r} replica={p} />
            ))}
          </tbody>
        </table>
      </div>
      {r.replicas.some((p) => p.work.members?.length) && <Members replicas={r.replicas} />}
      {drawn.length > 0 && (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4 lg:grid-cols-2">
          <Uses title="processor, cores" replicas={drawn} of={(u) => u.cpu} />
          <Uses title="memory, MiB" replicas={drawn} of={(u) => u.memory / 2 ** 20} />
        </div>
      )}
    </section>
  )
}

/** What the members of an ensemble do: how long each takes, and how far it is from what all give together. */
function Members({ replicas }: { replicas: Replica[] }) {
  return (
    <table className="text-[13px]">
      <TableHead columns={['member', 'replica', 'a batch', 'apart from the ensemble']} />
      <tbody>
        {replicas.flatMap((p) =>
          (p.work.members ?? []).map((m) => (
            <tr key={`${p.number} ${m.version}`} className="border-line border-t *:py-1 *:pr-4">
              <td>
                <Ref to={m.version} />
              </td>
              <td>{p.number}</td>
              <td>{number(m.us_per_batch)} µs</td>
              <td>
                {Object.entries(m.apart)
                  .map(([output, by]) => `${output} ${number(by ?? 0)}`)
                  .join(', ')}
              </td>
            </tr>
          )),
        )}
      </tbody>
    </table>
  )
}

function Uses({
  title,
  replicas,
  of,
}: {
  title: string
  replicas: Replica[]
  of: (u: Replica['series'][number]) => number
}) {
  return (
    <LineFigure
      title={title}
      xName="at"
      xText={(x) => new Date(x).toISOString().slice(11, 19)}
      height={130}
      lines={replicas.map((p) => ({
        name: `replica ${p.number}`,
        points: p.series.map((u) => ({ x: Date.parse(u.at), y: of(u) })),
      }))}
    />
  )
}

function ReplicaRow({ running: r, replica: p }: { running: Running; replica: Replica }) {
  const together = p.work.rows_together
  return (
    <tr className="border-line border-t align-top *:py-1 *:pr-3" data-replica={p.number}>
      <td>
        {p.number} <code className="text-ink-2 text-[12px]">{p.address}</code>
      </td>
      <td>
        <Tag tone={p.state === 'ready' ? 'main' : p.state === 'starting' || p.state === 'stopping' ? 'quiet' : 'bad'}>
          {p.state}
        </Tag>{' '}
        <span className="text-ink-2 text-[12.5px]">{p.reason}</span>
      </td>
      <td className="text-ink-2">{p.since ? <Ago at={p.since} /> : '–'}</td>
      <td className={p.restarts > 0 ? 'text-bad font-semibold' : undefined}>{p.restarts}</td>
      <td>
        {p.cpu.toFixed(2)} of {p.cpu_limit}
      </td>
      <td>
        {bytes(p.memory)} of {bytes(p.memory_limit)}
      </td>
      <td>
        {p.files} of {p.files_limit}
      </td>
      <td>{p.work.requests.toFixed(1)} a second</td>
      <td title="what computing rows of several requests together gains and costs, on the average">
        {together > 0
          ? `${number(together)} ${together === 1 ? 'row' : 'rows'}, ${number(p.work.compute_us_per_row)} µs each, ` +
            `after ${number(p.work.wait_ms)} ms`
          : '–'}
      </td>
      <td className="text-right">
        <FormSheet
          title={`What replica ${p.number} of ${r.version} wrote`}
          trigger={
            <button type="button" className="cursor-pointer text-[12.5px] underline underline-offset-3">
              log
            </button>
          }
        >
          {() => <Log running={r} replica={p.number} />}
        </FormSheet>
      </td>
    </tr>
  )
}

function Log({ running: r, replica }: { running: Running; replica: number }) {
  const log = useRunningLog(r.environment, r.version, replica)
  return (
    <Loaded query={log}>
      {(l) => (
        <pre className="bg-paper border-line max-h-[60vh] overflow-auto rounded-md border p-2 text-[12px] break-all">
          {l.lines.length > 0 ? l.lines.join('\n') : 'It has written nothing.'}
        </pre>
      )}
    </Loaded>
  )
}
