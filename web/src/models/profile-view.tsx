import { useProfile, useProfiles } from '../api/queries'
import { BackToBack } from '../charts/back-to-back'
import { versionSides } from '../charts/sides'
import { Distribution } from '../charts/distribution'
import { count, number, percent } from '../ui/format'
import { Empty, Loaded, Verdict } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import type { ColumnCounts, Profile, Review, Version } from '../api/client'

const seen = (c: ColumnCounts) => c.counts.reduce((a, b) => a + b, 0) + (c.under ?? 0) + (c.over ?? 0) + (c.other ?? 0)

/** The reference profile: every column with its distribution, and how columns go together. */
export function ProfileView({ version: v }: { version: Version }) {
  const profile = useProfile(v.ref, !!v.profile_rows)
  if (!v.profile_rows)
    return (
      <Empty command={`innerladder register ${v.model} -file … -sample rows.csv -target …`}>
        It was registered without a sample of at least 200 rows, so drift cannot be measured against it.
      </Empty>
    )
  return <Loaded query={profile}>{(p) => <ProfileTable profile={p} />}</Loaded>
}

function ProfileTable({ profile: p }: { profile: Profile }) {
  const columns = Object.entries(p.columns ?? {}).sort(
    ([a], [b]) =>
      Number(p.targets?.includes(b) ?? false) - Number(p.targets?.includes(a) ?? false) || a.localeCompare(b),
  )
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-6 xl:grid-cols-[minmax(0,1fr)_300px]">
      <div className="overflow-x-auto">
        <p className="text-ink-2 mb-2">{count(p.rows)} rows</p>
        <table className="w-full" aria-label="Reference profile">
          <TableHead columns={['column', 'distribution', 'least', 'mean', 'greatest', 'missing', 'distinct']} />
          <tbody className="*:border-line *:border-t *:*:py-1.5 *:*:pr-4 *:*:align-middle">
            {columns.map(([name, c]) => {
              const numeric = !!c.bins.edges?.length
              const n = seen(c)
              const mean = (c.sums ?? []).reduce((a, b) => a + b, 0) / (n || 1)
              return (
                <tr key={name}>
                  <td>
                    <b className="font-medium">{name}</b>
                    {p.targets?.includes(name) && <span className="text-ink-2"> target</span>}
                  </td>
                  <td>
                    <Distribution column={c} />
                  </td>
                  <td>{numeric ? number(c.min ?? 0) : '–'}</td>
                  <td>{numeric ? number(mean) : '–'}</td>
                  <td>{numeric ? number(c.max ?? 0) : '–'}</td>
                  <td>{percent((c.missing ?? 0) / (n + (c.missing ?? 0) || 1))}</td>
                  <td>{count(p.distinct?.[name] ?? 0)}</td>
                </tr>
              )
            })}
          </tbody>
        </table>
      </div>
      {p.correlations && p.correlations.length > 0 && (
        <div>
          <h2>Strongest correlations</h2>
          {p.correlations.slice(0, 10).map((r) => (
            <div
              key={`${r.a} ${r.b}`}
              className="border-line grid grid-cols-[minmax(0,1fr)_90px_52px] items-center gap-2 border-t py-1 text-[13px]"
            >
              <span className="truncate">
                {r.a} · {r.b}
              </span>
              <span className="bg-paper relative h-2">
                <span
                  className={`absolute h-2 ${r.r < 0 ? 'bg-trial-line right-1/2' : 'bg-main left-1/2'}`}
                  style={{ width: `${Math.abs(r.r) * 50}%` }}
                />
              </span>
              <span className="text-right">{r.r.toFixed(2)}</span>
            </div>
          ))}
        </div>
      )}
    </div>
  )
}

/** The rows behind two versions, the column that moved most first. */
export function ProfilesAgainst({ from, to }: { from: Version; to: Version }) {
  const both = !!from.profile_rows && !!to.profile_rows
  const profiles = useProfiles(from.ref, to.ref, both)
  if (!both) return <Empty>One of the two was registered without a reference profile.</Empty>
  return <Loaded query={profiles}>{(p) => <MovedColumns profiles={p} columns={p.columns.slice(0, 8)} />}</Loaded>
}

type Profiles = NonNullable<Review['moved']>

/** Columns of two versions back to back, each with how far it moved. */
export function MovedColumns({ profiles: p, columns }: { profiles: Profiles; columns: Profiles['columns'] }) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-6 lg:grid-cols-2">
      {columns.map((c) => (
        <section key={c.name} className="min-w-0">
          <h3 className="flex flex-wrap items-baseline gap-2 font-semibold">
            {c.name} <Verdict verdict={c.movement.verdict} />
          </h3>
          <p className="text-ink-2 mb-2 text-[13px]">{c.movement.sentence}</p>
          <BackToBack
            sides={versionSides({ incumbent: p.from, candidate: p.to })}
            distribution={{
              edges: c.from.bins.edges,
              whole: c.from.bins.edges?.every(Number.isInteger),
              levels: c.from.bins.levels,
              incumbent: cells(c.from),
              candidate: cells(c.to),
            }}
          />
        </section>
      ))}
    </div>
  )
}

const cells = (c: ColumnCounts) =>
  c.bins.edges?.length ? [c.under ?? 0, ...c.counts, c.over ?? 0] : [...c.counts, c.other ?? 0]
