import { Download } from 'lucide-react'
import { useState, type ReactNode } from 'react'
import { useParams } from 'react-router'

import type { Version } from '../api/client'
import { useDiff, useLadder, usePlacements, usePromote, usePromotions, useVersion, useVersions } from '../api/queries'
import { bytes, number } from '../ui/format'
import { Choice, Sheet } from '../ui/overlays'
import { Ago, Button, Empty, Field, inputLook, Loaded, PageHead, Panel, Problem, Tag, To, Verdict } from '../ui/parts'

export function VersionPage() {
  const { model = '', number: n = '' } = useParams()
  const version = useVersion(`${model}@${n}`)
  return <Loaded query={version}>{(v) => <VersionView key={v.ref} version={v} />}</Loaded>
}

function VersionView({ version: v }: { version: Version }) {
  const promotions = (usePromotions({ model: v.model }).data?.items ?? []).filter((p) => p.version === v.ref)
  const placements = (usePlacements().data?.items ?? []).filter((p) => p.version === v.ref)
  const open = promotions.find((p) => p.state === 'open')
  return (
    <>
      <PageHead
        title={v.ref}
        sub={
          <>
            on <b>{v.rung}</b> since <Ago at={v.rung_since} /> · registered <Ago at={v.created_at} /> by {v.created_by}
            {v.note && ` · ${v.note}`}
          </>
        }
      >
        {open ? <To to="/reviews">{open.id} waits for review</To> : <PromoteSheet version={v} />}
      </PageHead>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title="Measured and made with">
          <Facts empty="Neither metrics nor parameters were recorded." rows={[...Object.entries(v.metrics).map(([k, x]) => [k, number(x)] as const), ...Object.entries(v.params)]} />
        </Panel>
        <Panel title="Made from">
          <Facts
            empty=""
            rows={[
              ...v.artifacts.map(
                (a) =>
                  [
                    a.name,
                    <a key={a.name} className="inline-flex items-center gap-1.5 underline underline-offset-3" href={`/api/v1/versions/${v.ref}/artifacts/${encodeURIComponent(a.name)}`} download>
                      {bytes(a.size)}, sha256 {a.digest.slice(0, 12)} <Download size={13} />
                    </a>,
                  ] as const,
              ),
              ['code', v.code ? `${v.code.commit.slice(0, 12)}${v.code.branch ? ` on ${v.code.branch}` : ''}${v.code.dirty ? ', with uncommitted changes' : ''}` : 'not recorded'] as const,
              ...placements.map((p) => [`placed in ${p.environment}`, p.addresses.map((a) => `${a.url} ${a.healthy ? 'healthy' : `✕ ${a.reason ?? ''}`}`).join(', ')] as const),
            ]}
          />
        </Panel>
      </div>
      <DiffPanel version={v} />
      <Panel title="Signature">{v.signature ? <SignatureTable signature={v.signature} /> : <Empty>No sample was given at registration (-sample), so it is not known.</Empty>}</Panel>
      <Panel title="Promotions">
        {promotions.length === 0 ? (
          <Empty command={`innerladder promote ${v.ref} -to live`}>Nobody has asked for it yet.</Empty>
        ) : (
          promotions.map((p) => (
            <div key={p.id} className="border-line flex flex-wrap gap-x-4 border-t py-1.5 first:border-0">
              <b>{p.id}</b> {p.from} → {p.to} <Tag tone={p.state === 'carried_out' ? 'main' : p.state === 'open' ? 'trial' : 'bad'}>{p.state.replace('_', ' ')}</Tag>
              <span className="text-ink-2">
                asked by {p.asked_by}, <Ago at={p.opened_at} />
                {p.sign_offs.map((s) => `; ${s.by} said ${s.answer}${s.note ? ` “${s.note}”` : ''}`)}
              </span>
            </div>
          ))
        )}
      </Panel>
    </>
  )
}

function Facts({ rows, empty }: { rows: readonly (readonly [string, ReactNode])[]; empty: string }) {
  if (rows.length === 0) return <Empty>{empty}</Empty>
  return (
    <dl>
      {rows.map(([name, value]) => (
        <div key={name} className="border-line flex justify-between gap-4 border-t py-1.5 first:border-0">
          <dt className="text-ink-2">{name}</dt>
          <dd className="min-w-0 text-right break-words">{value}</dd>
        </div>
      ))}
    </dl>
  )
}

function SignatureTable({ signature }: { signature: NonNullable<Version['signature']> }) {
  const columns = [...signature.inputs.map((c) => ({ ...c, side: 'input' })), ...signature.outputs.map((c) => ({ ...c, side: 'output' }))]
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <thead className="text-ink-3 text-left text-[12px]">
          <tr className="*:py-1 *:font-normal">
            <th>column</th>
            <th>side</th>
            <th>type</th>
            <th>unit</th>
            <th>range or levels</th>
          </tr>
        </thead>
        <tbody>
          {columns.map((c) => (
            <tr key={`${c.side} ${c.name}`} className="border-line border-t *:py-1.5 *:pr-4">
              <td className="font-medium">{c.name}</td>
              <td>{c.side}</td>
              <td>
                {c.type}
                {c.nullable && ', may be missing'}
              </td>
              <td>{c.unit ?? '–'}</td>
              <td>{c.levels?.join(' | ') ?? (c.min !== undefined && c.max !== undefined ? `${number(c.min)} to ${number(c.max)}` : '–')}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** How the version differs from another one of its model. */
function DiffPanel({ version: v }: { version: Version }) {
  const others = (useVersions(v.model).data?.items ?? []).filter((o) => o.number !== v.number)
  const usual = others.find((o) => o.rung === 'live' && o.number < v.number) ?? others[0]
  const [chosen, setChosen] = useState<string>()
  const other = chosen ?? usual?.ref
  const diff = useDiff(other ?? '', other && v.ref)
  if (!other) return null
  return (
    <Panel title="How it differs" aside={<Choice label="From" value={other} options={others.map((o) => ({ value: o.ref, text: `from ${o.ref}` }))} onChange={setChosen} />}>
      <Loaded query={diff}>
        {(d) => (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead className="text-ink-3 text-left text-[12px]">
                <tr className="*:py-1 *:font-normal">
                  <th />
                  <th>{d.from}</th>
                  <th>{d.to}</th>
                  <th />
                </tr>
              </thead>
              <tbody className="*:border-line *:border-t *:*:py-1.5 *:*:pr-4">
                {d.metrics.map((m) => (
                  <tr key={m.name}>
                    <td className="text-ink-2">metric {m.name}</td>
                    <td>{m.from === undefined ? '–' : number(m.from)}</td>
                    <td>{m.to === undefined ? '–' : number(m.to)}</td>
                    <td>
                      <Verdict verdict={m.verdict} detail={m.difference ? `${m.difference > 0 ? '+' : '−'}${number(Math.abs(m.difference))}` : undefined} />
                    </td>
                  </tr>
                ))}
                {[...d.params.map((c) => ({ ...c, name: `parameter ${c.name}` })), ...d.signature, ...d.artifacts.map((c) => ({ ...c, name: `artifact ${c.name}` })), ...d.code].map((c) => (
                  <tr key={c.name}>
                    <td className="text-ink-2">{c.name}</td>
                    <td>{c.from || '–'}</td>
                    <td>{c.to || '–'}</td>
                    <td className="text-ink-2">
                      {c.kind} {c.detail}
                    </td>
                  </tr>
                ))}
                <tr>
                  <td className="text-ink-2">signature</td>
                  <td colSpan={3}>
                    <Verdict verdict={d.compatibility} />
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
        )}
      </Loaded>
    </Panel>
  )
}

function PromoteSheet({ version: v }: { version: Version }) {
  const rungs = useLadder().data?.rungs.map((r) => r.name) ?? []
  const above = rungs.slice(rungs.indexOf(v.rung) + 1)
  const [open, setOpen] = useState(false)
  const [to, setTo] = useState<string>()
  const [note, setNote] = useState('')
  const promote = usePromote()
  if (above.length === 0 || !rungs.includes(v.rung)) return null
  const rung = to ?? above.at(-1) ?? ''
  return (
    <Sheet title={`Ask for ${v.ref}`} open={open} onOpenChange={setOpen} trigger={<Button look="go">Ask for a higher rung</Button>}>
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          promote.mutate({ version: v.ref, to: rung, note }, { onSuccess: () => setOpen(false) })
        }}
      >
        <Field label="To the rung">
          <Choice label="To the rung" value={rung} options={above.map((r) => ({ value: r, text: r }))} onChange={setTo} />
        </Field>
        <Field label="For those who sign">
          <textarea className={inputLook} rows={3} value={note} onChange={(event) => setNote(event.target.value)} />
        </Field>
        {promote.error && <Problem error={promote.error} />}
        <div className="flex justify-end">
          <Button look="go" type="submit" disabled={promote.isPending}>
            Ask
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
