import { ArrowDown, ArrowUp, X } from 'lucide-react'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import type { KindInfo, Ladder, LadderRevision, Requirement, Rung } from '../api/client'
import { useLadder, useLadderRevisions, usePreview, useRequirementKinds, useSetLadder } from '../api/ladder'
import { useMay } from '../api/people'
import { useProjects } from '../api/queries'
import { words } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Ago, Button, Field, inputLook, Loaded, Panel, Problem, Ref, StateMark } from '../ui/parts'

/** The ladder of a project: its rungs and gates, changed with a view of what would pass. */
export function LadderPage() {
  const [params, setParams] = useSearchParams()
  const projects = useProjects().data?.items ?? []
  const project = params.get('project') ?? projects.find((p) => p.models > 0)?.name ?? projects[0]?.name ?? ''
  const ladder = useLadder(project)
  if (!project) return null
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <Choice
          label="Project"
          value={project}
          options={projects.map((p) => ({ value: p.name, text: p.name }))}
          onChange={(p) => setParams({ project: p }, { replace: true })}
        />
        <Loaded query={ladder}>
          {(l) => (
            <span className="text-ink-2">
              {l.number === 0 ? (
                'the default ladder, which serves until another is set'
              ) : (
                <>
                  revision {l.number}, {l.author} <Ago at={l.made_at ?? ''} />: “{l.reason}”
                </>
              )}
            </span>
          )}
        </Loaded>
      </div>
      <Loaded query={ladder}>{(l) => <Editor key={`${project} ${l.number}`} project={project} saved={l} />}</Loaded>
      <Revisions project={project} />
    </>
  )
}

const part = (l: LadderRevision): Ladder => ({
  rungs: l.rungs,
  carry_out: l.carry_out,
  remind_after: l.remind_after,
  expire_after: l.expire_after,
  freezes: l.freezes,
})

function Editor({ project, saved }: { project: string; saved: LadderRevision }) {
  const [ladder, setLadder] = useState<Ladder>(() => part(saved))
  const [reason, setReason] = useState('')
  const may = useMay('manage', project)
  const set = useSetLadder(project, saved.number)
  const changed = JSON.stringify(ladder) !== JSON.stringify(part(saved))
  const setRung = (i: number, rung: Rung | undefined) =>
    setLadder({
      ...ladder,
      rungs: rung ? ladder.rungs.map((r, j) => (j === i ? rung : r)) : ladder.rungs.filter((_, j) => j !== i),
    })
  const move = (i: number, by: number) => {
    const rungs = [...ladder.rungs]
    const [r] = rungs.splice(i, 1)
    if (r) rungs.splice(i + by, 0, r)
    setLadder({ ...ladder, rungs })
  }
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1fr)_minmax(380px,0.75fr)]">
      <fieldset disabled={!may} className="grid min-w-0 gap-4">
        <Panel title="Rungs, the highest on top">
          <div className="grid gap-4">
            {ladder.rungs
              .map((r, i) => (
                <RungEditor
                  key={i}
                  rung={r}
                  lowest={i === 0}
                  highest={i === ladder.rungs.length - 1}
                  onChange={(rung) => setRung(i, rung)}
                  onMove={(by) => move(i, by)}
                />
              ))
              .reverse()}
          </div>
          {may && (
            <Button
              className="mt-4"
              onClick={() =>
                setLadder({
                  ...ladder,
                  rungs: [...ladder.rungs, { name: `rung-${ladder.rungs.length + 1}`, gate: [] }],
                })
              }
            >
              Add a rung on top
            </Button>
          )}
        </Panel>
        <Panel title="For all promotions">
          <div className="flex flex-wrap items-end gap-4">
            <Field label="Carried out, when the gate is met">
              <Choice
                label="Carried out"
                value={ladder.carry_out ?? 'at_once'}
                options={[
                  { value: 'at_once', text: 'at once' },
                  { value: 'by_hand', text: 'by hand' },
                ]}
                onChange={(v) => setLadder({ ...ladder, carry_out: v as 'at_once' })}
              />
            </Field>
            <Field label="Reviewers are reminded after">
              <TextInput
                label="Reminded after"
                narrow
                value={ladder.remind_after ?? ''}
                onCommit={(v) => setLadder({ ...ladder, remind_after: v })}
              />
            </Field>
            <Field label="Expires unanswered after">
              <TextInput
                label="Expires after"
                narrow
                value={ladder.expire_after ?? ''}
                onCommit={(v) => setLadder({ ...ladder, expire_after: v })}
              />
            </Field>
          </div>
        </Panel>
        <Freezes
          freezes={ladder.freezes ?? []}
          onChange={(freezes) => setLadder({ ...ladder, freezes: freezes.length > 0 ? freezes : undefined })}
        />
      </fieldset>
      <div className="grid min-w-0 gap-4 xl:sticky xl:top-5">
        {may && (
          <Panel title="Set the ladder">
            <form
              className="grid gap-3"
              onSubmit={(event) => {
                event.preventDefault()
                set.mutate({ ...ladder, reason })
              }}
            >
              <input
                className={inputLook}
                aria-label="Why it changes"
                placeholder="why it changes"
                value={reason}
                onChange={(event) => setReason(event.target.value)}
              />
              {set.error && <Problem error={set.error} />}
              <div className="flex gap-2">
                <Button look="go" type="submit" disabled={!changed || set.isPending}>
                  Set as revision {saved.number + 1}
                </Button>
                <Button disabled={!changed} onClick={() => setLadder(part(saved))}>
                  Undo
                </Button>
              </div>
            </form>
          </Panel>
        )}
        <PreviewPanel project={project} ladder={ladder} />
      </div>
    </div>
  )
}

function RungEditor({
  rung,
  lowest,
  highest,
  onChange,
  onMove,
}: {
  rung: Rung
  lowest: boolean
  highest: boolean
  onChange: (r: Rung | undefined) => void
  onMove: (by: number) => void
}) {
  const kinds = useRequirementKinds().data ?? []
  const small = 'cursor-pointer p-1 disabled:opacity-30 disabled:cursor-default text-ink-2 hover:text-ink'
  return (
    <div className="border-line-strong rounded-md border-b-[5px] border-x-[3px] px-3 pt-1 pb-3" data-rung={rung.name}>
      <div className="flex flex-wrap items-center gap-2">
        <TextInput label="Name of the rung" narrow value={rung.name} onCommit={(name) => onChange({ ...rung, name })} />
        <TextInput
          label="What it means"
          value={rung.meaning ?? ''}
          placeholder="what it means to stand here"
          onCommit={(meaning) => onChange({ ...rung, meaning: meaning || undefined })}
        />
        <span className="ml-auto flex">
          <button
            type="button"
            className={small}
            aria-label={`${rung.name} up`}
            disabled={highest}
            onClick={() => onMove(1)}
          >
            <ArrowUp size={15} />
          </button>
          <button
            type="button"
            className={small}
            aria-label={`${rung.name} down`}
            disabled={lowest}
            onClick={() => onMove(-1)}
          >
            <ArrowDown size={15} />
          </button>
          <button
            type="button"
            className={small}
            aria-label={`Remove ${rung.name}`}
            onClick={() => onChange(undefined)}
          >
            <X size={15} />
          </button>
        </span>
      </div>
      {!lowest && (
        <>
          <div className="text-ink-2 mt-2 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
            <Tickbox
              label="holds one version"
              on={!!rung.holds_one}
              onChange={(on) => onChange({ ...rung, holds_one: on || undefined, displaced: undefined })}
            />
            {rung.holds_one && (
              <Choice
                label="Where the other goes"
                value={rung.displaced ?? 'below'}
                options={[
                  { value: 'below', text: 'the other steps down a rung' },
                  { value: 'retired', text: 'the other is retired' },
                ]}
                onChange={(v) => onChange({ ...rung, displaced: v === 'below' ? undefined : (v as 'retired') })}
              />
            )}
            <Tickbox
              label="rungs below may be skipped"
              on={!!rung.skip}
              onChange={(on) => onChange({ ...rung, skip: on || undefined })}
            />
            <span className="inline-flex items-center gap-1.5">
              asked for by{' '}
              <Texts
                label="Roles that may ask"
                value={rung.ask ?? []}
                placeholder="anyone who may"
                onCommit={(ask) => onChange({ ...rung, ask: ask.length ? ask : undefined })}
              />
            </span>
            <span className="inline-flex items-center gap-1.5">
              signed by{' '}
              <Texts
                label="Roles that may sign"
                value={rung.sign ?? []}
                placeholder="anyone who may"
                onCommit={(sign) => onChange({ ...rung, sign: sign.length ? sign : undefined })}
              />
            </span>
          </div>
          <ul className="mt-2 grid gap-2">
            {rung.gate.map((q, i) => (
              <RequirementEditor
                key={`${q.kind} ${i}`}
                requirement={q}
                info={kinds.find((k) => k.kind === q.kind)}
                onChange={(next) =>
                  onChange({
                    ...rung,
                    gate: next ? rung.gate.map((g, j) => (j === i ? next : g)) : rung.gate.filter((_, j) => j !== i),
                  })
                }
              />
            ))}
          </ul>
          <div className="mt-2">
            <Choice
              label={`Add a requirement to ${rung.name}`}
              value=""
              options={kinds.map((k) => ({ value: k.kind, text: `${words(k.kind)}: ${k.what}` }))}
              onChange={(kind) =>
                onChange({
                  ...rung,
                  gate: [
                    ...rung.gate,
                    { kind: kind as Requirement['kind'], ...(kind === 'sign_offs' ? { count: 1 } : {}) },
                  ],
                })
              }
            />
          </div>
        </>
      )}
    </div>
  )
}

type Items = { name: string; text: string; link?: boolean }[]

/** One requirement: its kind and, made from the description of the kind, its settings. */
function RequirementEditor({
  requirement: q,
  info,
  onChange,
}: {
  requirement: Requirement
  info: KindInfo | undefined
  onChange: (q: Requirement | undefined) => void
}) {
  const values = q as Record<string, unknown>
  const put = (name: string, value: unknown) => {
    const unset = value === undefined || value === '' || value === false
    onChange(
      Object.fromEntries([
        ...Object.entries(values).filter(([k]) => k !== name),
        ...(unset ? [] : [[name, value]]),
      ]) as Requirement,
    )
  }
  return (
    <li
      className="bg-paper relative flex flex-wrap items-center gap-x-3 gap-y-1.5 rounded-md py-1.5 pr-9 pl-2.5"
      data-requirement={q.kind}
    >
      <b className="font-medium" title={info?.what}>
        {words(q.kind)}
      </b>
      {info?.settings.map((s) => {
        const label = `${words(q.kind)}: ${words(s.name)}`
        const value = values[s.name]
        if (s.type === 'flag')
          return (
            <Tickbox
              key={s.name}
              label={words(s.name)}
              title={s.what}
              on={value === true}
              onChange={(on) => put(s.name, on)}
            />
          )
        if (s.type === 'items')
          return (
            <ItemsEditor
              key={s.name}
              items={(value as Items | undefined) ?? []}
              onChange={(items) => put(s.name, items)}
            />
          )
        return (
          <span key={s.name} className="inline-flex items-center gap-1.5 text-[13px]" title={s.what}>
            {s.name !== q.kind && <span className="text-ink-2">{words(s.name)}</span>}
            {s.among && s.type === 'text' ? (
              <Choice
                label={label}
                placeholder={s.name === q.kind ? 'choose' : 'not said'}
                value={(value as string | undefined) ?? ''}
                options={s.among.map((a) => ({ value: a, text: a }))}
                onChange={(v) => put(s.name, v)}
              />
            ) : s.type === 'texts' ? (
              <Texts
                label={label}
                value={(value as string[] | undefined) ?? []}
                onCommit={(v) => put(s.name, v.length ? v : undefined)}
              />
            ) : s.type === 'text' ? (
              <TextInput
                label={label}
                narrow
                value={(value as string | undefined) ?? ''}
                onCommit={(v) => put(s.name, v)}
              />
            ) : (
              <TextInput
                label={label}
                tiny
                value={value === undefined ? '' : String(value as number)}
                onCommit={(v) => put(s.name, v.trim() === '' || Number.isNaN(Number(v)) ? undefined : Number(v))}
              />
            )}
          </span>
        )
      })}
      <button
        type="button"
        className="text-ink-2 hover:text-ink absolute top-1.5 right-1.5 cursor-pointer p-1"
        aria-label={`Remove ${words(q.kind)}`}
        onClick={() => onChange(undefined)}
      >
        <X size={14} />
      </button>
    </li>
  )
}

function ItemsEditor({ items, onChange }: { items: Items; onChange: (items: Items) => void }) {
  return (
    <div className="grid w-full gap-1.5">
      {items.map((item, i) => {
        const set = (next: Partial<Items[number]>) => onChange(items.map((x, j) => (j === i ? { ...x, ...next } : x)))
        return (
          <div key={i} className="flex flex-wrap items-center gap-2">
            <TextInput label="Name of the item" narrow value={item.name} onCommit={(name) => set({ name })} />
            <TextInput
              label="What to look at"
              value={item.text}
              placeholder="what to look at"
              onCommit={(text) => set({ text })}
            />
            <Tickbox label="needs a link" on={!!item.link} onChange={(on) => set({ link: on || undefined })} />
            <button
              type="button"
              className="text-ink-2 cursor-pointer p-1"
              aria-label={`Remove the item ${item.name}`}
              onClick={() => onChange(items.filter((_, j) => j !== i))}
            >
              <X size={13} />
            </button>
          </div>
        )
      })}
      <Button
        className="justify-self-start px-2 py-0.5"
        onClick={() => onChange([...items, { name: `item-${items.length + 1}`, text: 'looked at it' }])}
      >
        Add an item
      </Button>
    </div>
  )
}

type Freeze = NonNullable<Ladder['freezes']>[number]

function Freezes({ freezes, onChange }: { freezes: Freeze[]; onChange: (f: Freeze[]) => void }) {
  return (
    <Panel title="Change freezes">
      <p className="text-ink-2 mb-2 text-[13px]">
        Windows in which nothing steps on a rung whose gate has the requirement “no freeze”. With days they come every
        week, and the times are times of day.
      </p>
      <ul className="grid gap-2">
        {freezes.map((f, i) => {
          const set = (next: Partial<Freeze>) => onChange(freezes.map((x, j) => (j === i ? { ...x, ...next } : x)))
          return (
            <li key={i} className="bg-paper flex flex-wrap items-center gap-2 rounded-md px-2.5 py-1.5">
              <TextInput label="Name of the freeze" narrow value={f.name} onCommit={(name) => set({ name })} />
              from{' '}
              <TextInput
                label="From"
                narrow
                value={f.from}
                placeholder="2026-12-20 16:00"
                onCommit={(from) => set({ from })}
              />
              to{' '}
              <TextInput label="To" narrow value={f.to} placeholder="2027-01-06 08:00" onCommit={(to) => set({ to })} />
              <TextInput
                label="Time zone"
                narrow
                value={f.zone}
                placeholder="Europe/Stockholm"
                onCommit={(zone) => set({ zone })}
              />
              <Texts
                label="Days"
                value={f.days ?? []}
                placeholder="once; or mon, fri"
                onCommit={(days) => set({ days: days.length ? (days as Freeze['days']) : undefined })}
              />
              <button
                type="button"
                className="text-ink-2 cursor-pointer p-1"
                aria-label={`Remove the freeze ${f.name}`}
                onClick={() => onChange(freezes.filter((_, j) => j !== i))}
              >
                <X size={14} />
              </button>
            </li>
          )
        })}
      </ul>
      <Button
        className="mt-2 px-2 py-0.5"
        onClick={() =>
          onChange([...freezes, { name: 'holidays', zone: 'UTC', from: '2026-12-20 16:00', to: '2027-01-06 08:00' }])
        }
      >
        Add a freeze
      </Button>
    </Panel>
  )
}

/** A text that counts when one leaves it or presses Enter, so that half a word is not judged. */
function TextInput({
  label,
  value,
  onCommit,
  placeholder,
  narrow,
  tiny,
}: {
  label: string
  value: string
  onCommit: (v: string) => void
  placeholder?: string
  narrow?: boolean
  tiny?: boolean
}) {
  const [text, setText] = useState<string>()
  const commit = () => {
    if (text !== undefined && text !== value) onCommit(text)
    setText(undefined)
  }
  return (
    <input
      className={`border-line-strong bg-panel text-ink min-w-0 rounded-md border px-2 py-1 ${tiny ? 'w-20' : narrow ? 'w-36' : 'flex-1 basis-48'}`}
      aria-label={label}
      placeholder={placeholder}
      value={text ?? value}
      onChange={(event) => setText(event.target.value)}
      onBlur={commit}
      onKeyDown={(event) => {
        if (event.key === 'Enter') {
          event.preventDefault()
          commit()
        }
      }}
    />
  )
}

/** Several texts, separated by commas. */
function Texts({
  label,
  value,
  onCommit,
  placeholder,
}: {
  label: string
  value: string[]
  onCommit: (v: string[]) => void
  placeholder?: string
}) {
  return (
    <TextInput
      label={label}
      narrow
      placeholder={placeholder}
      value={value.join(', ')}
      onCommit={(v) =>
        onCommit(
          v
            .split(',')
            .map((x) => x.trim())
            .filter(Boolean),
        )
      }
    />
  )
}

function Tickbox({
  label,
  on,
  onChange,
  title,
}: {
  label: string
  on: boolean
  onChange: (on: boolean) => void
  title?: string
}) {
  return (
    <label className="inline-flex items-center gap-1.5 text-[13px]" title={title}>
      <input type="checkbox" checked={on} onChange={(event) => onChange(event.target.checked)} /> {label}
    </label>
  )
}

/** What would pass today, asked of the service whenever the ladder is another. */
function PreviewPanel({ project, ladder }: { project: string; ladder: Ladder }) {
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
                <thead className="text-ink-3 text-[12px]">
                  <tr className="*:pr-3 *:text-left *:font-normal">
                    <th>to</th>
                    <th>would pass</th>
                    <th>wait for people</th>
                    <th>kept back</th>
                  </tr>
                </thead>
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

function Revisions({ project }: { project: string }) {
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
