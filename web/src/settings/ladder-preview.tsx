import type { Ladder } from '../api/client'
import { useLadderRevisions, usePreview } from '../api/ladder'
import { words } from '../ui/format'
import { Ago, Loaded, Panel, Problem, Ref, StateMark } from '../ui/parts'
import { TableHead } from '../ui/table-head'

/** What would pass today, asked of the service whenever the ladder is another. */
export function PreviewPanel({ project, ladder }: { project: string; ladder: Ladder }) {
  const preview = usePreview(project, ladder)
  return (
    <Panel
      title="What would pass today"
      aside={preview.isFetching && <span className="text-ink-3 text-[12.5px]">judging…</span>}
    >
      {preview.error ? (
        <Problem error={preview.error} />
      ) : (
        <Loaded query={preview}>
          {(p) => (
            <>
              {p.refused && <p className="text-bad mb-2">It cannot be set as it is: {p.refused}</p>}
              <table className="w-full">
                <TableHead columns={['to', 'would pass', 'wait for people', 'kept back']} />
                <tbody className="*:border-line *:border-t *:*:py-1.5 *:*:pr-3">
                  {[...p.rungs].reverse().map((r) => (
                    <tr key={r.rung} data-preview={r.rung}>
                      <td className="font-medium">{r.rung}</td>
                      <td className="text-main">
                        {r.pass} of {r.asked}
                      </td>
                      <td className="text-trial">{r.people}</td>
                      <td className={r.blocked > 0 ? 'text-bad' : ''}>
                        {r.blocked}
                        <span className="text-ink-2 block text-[12.5px]">
                          {r.open.map((o) => `${words(o.requirement)} ${o.versions}`).join(', ')}
                        </span>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              <p className="text-ink-3 mt-1 text-[12.5px]">
                {p.judged} versions, each for the rung above the one it stands on
              </p>
              <ul className="mt-3 grid gap-2">
                {p.versions
                  .filter((v) => v.state !== 'pass')
                  .slice(0, 12)
                  .map((v) => (
                    <li key={v.version}>
                      <Ref to={v.version} /> <span className="text-ink-2">to {v.to}</span>
                      <ul>
                        {v.findings
                          .filter((f) => f.state !== 'passed')
                          .map((f, i) => (
                            <li key={i} className="flex items-baseline gap-2 text-[13px]">
                              <StateMark state={f.state} />
                              <span className="min-w-0">{f.sentence}</span>
                            </li>
                          ))}
                      </ul>
                    </li>
                  ))}
              </ul>
            </>
          )}
        </Loaded>
      )}
    </Panel>
  )
}

export function Revisions({ project }: { project: string }) {
  const revisions = useLadderRevisions(project).data?.items ?? []
  if (revisions.length === 0) return null
  return (
    <Panel title="How it was changed">
      <ul>
        {revisions.map((l) => (
          <li key={l.number} className="border-line flex flex-wrap gap-x-3 border-t py-1.5 first:border-0">
            <b className="font-medium">{l.number}</b> {l.rungs.map((r) => r.name).join(' → ')}{' '}
            <span className="text-ink-2">
              “{l.reason}” {l.author}, <Ago at={l.made_at ?? ''} />
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  )
}
