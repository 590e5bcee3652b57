import { useQuery } from '@tanstack/react-query'
import { Download } from 'lucide-react'

import { foundAt, type Job } from '../api/jobs'
import { Loaded, Panel } from '../ui/parts'
import { TableHead } from '../ui/table-head'

const shown = 10

/** The first rows of what a job found, with the files to fetch. */
export function Found({ job: j, what, title }: { job: Job; what: 'answers' | 'put-aside'; title: string }) {
  return (
    <Panel
      title={title}
      aside={
        <span className="flex gap-3">
          {['csv', 'jsonl', 'parquet'].map((format) => (
            <a
              key={format}
              className="inline-flex items-center gap-1 underline underline-offset-3"
              href={foundAt(j.id, what, format)}
            >
              <Download size={13} aria-hidden /> {{ csv: 'CSV', jsonl: 'JSON lines', parquet: 'Parquet' }[format]}
            </a>
          ))}
        </span>
      }
    >
      <FirstRows job={j} what={what} />
    </Panel>
  )
}

function FirstRows({ job: j, what }: { job: Job; what: 'answers' | 'put-aside' }) {
  const ended = j.state !== 'waiting' && j.state !== 'running'
  const rows = useQuery({
    queryKey: ['first rows', j.id, what, ended],
    queryFn: ({ signal }) => firstLines(foundAt(j.id, what, 'jsonl'), signal),
  })
  return (
    <Loaded query={rows}>
      {(list) => {
        const columns = Object.keys(list[0] ?? {})
        return (
          <div className="overflow-x-auto">
            <table className="w-full text-[13px]">
              <TableHead columns={columns} />
              <tbody>
                {list.map((r, i) => (
                  <tr key={i} className="border-line border-t *:py-1 *:pr-4">
                    {columns.map((c) => (
                      <td key={c}>{cell(r[c])}</td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="text-ink-2 mt-2 text-[12.5px]">The first {list.length}; all are in the files.</p>
          </div>
        )
      }}
    </Loaded>
  )
}

const cell = (v: unknown) =>
  v === null || v === undefined ? '–' : typeof v === 'number' ? String(Number(v.toPrecision(6))) : String(v as string)

/** The first lines of a file that may be of any size; the rest is not read. */
async function firstLines(url: string, signal: AbortSignal): Promise<Record<string, unknown>[]> {
  const response = await fetch(url, { signal })
  if (!response.ok || !response.body) throw new Error(`it cannot be read: status ${response.status}`)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let text = ''
  for (;;) {
    const { done, value } = await reader.read()
    text += value ?? ''
    if (done || text.split('\n').length > shown) break
  }
  await reader.cancel()
  return text
    .split('\n')
    .slice(0, shown)
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Record<string, unknown>)
}
