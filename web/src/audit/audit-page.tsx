import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { useAudit, useMay, useMe, usePeople, useRemoveSearch, useSearches } from '../api/people'
import { useProjects } from '../api/queries'
import { Choice } from '../ui/overlays'
import { Button, Empty, inputLook, Loaded, PageHead, Panel } from '../ui/parts'
import { kinds, queryOf, spans } from './search'
import { SaveSearch } from './save-search'
import { Verify } from './verify'
import { Line } from './line'

export function AuditPage() {
  const [params, setParams] = useSearchParams()
  const query = queryOf(params)
  // What is being typed; the address of the page follows it.
  const [text, setText] = useState(query.text ?? '')
  const [subject, setSubject] = useState(query.subject ?? '')
  const [between, setBetween] = useState(!!(query.after ?? query.until))
  const begin = (search: Record<string, string>) => {
    setBetween(!!(search.after ?? search.until))
    setText(search.text ?? '')
    setSubject(search.subject ?? '')
    setParams(search, { replace: true })
  }
  const audit = useAudit(query)
  const searches = useSearches().data?.items ?? []
  const remove = useRemoveSearch()
  const me = useMe().data?.name
  const people = usePeople().data?.items ?? []
  const projects = useProjects().data?.items ?? []
  const whole = useMay('audit', '*')
  const set = (name: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value)
        else p.delete(name)
        return p
      },
      { replace: true },
    )
  const choice = (label: string, name: string, any: string, options: string[]) => (
    <Choice
      label={label}
      value={params.get(name) || any}
      options={[any, ...options].map((o) => ({ value: o, text: o }))}
      onChange={(v) => set(name, v === any ? '' : v)}
    />
  )
  return (
    <>
      <PageHead
        title="Audit"
        sub="who did what, when and why, with values before and after; nothing is ever changed or removed"
      >
        <a href={`/api/v1/audit/export?${new URLSearchParams(query as Record<string, string>).toString()}`}>
          <Button tabIndex={-1}>Export</Button>
        </a>
        <SaveSearch query={query} />
        {whole && <Verify />}
      </PageHead>
      <Panel>
        <div className="mb-3 flex flex-wrap items-center gap-2">
          <input
            className={`${inputLook} w-52!`}
            aria-label="Words"
            placeholder="words"
            value={text}
            onChange={(event) => (setText(event.target.value), set('text', event.target.value))}
          />
          <input
            className={`${inputLook} w-44!`}
            aria-label="About"
            placeholder="about: heat-demand@2"
            value={subject}
            onChange={(event) => (setSubject(event.target.value), set('subject', event.target.value.trim()))}
          />
          {choice('Kind', 'kind', 'any kind', kinds.filter(Boolean))}
          {choice('By', 'actor', 'anybody', ['inner-ladder', ...people.map((p) => p.name)])}
          {choice(
            'Project',
            'project',
            'all projects',
            projects.map((p) => p.name),
          )}
          <Choice
            label="When"
            value={between ? 'between' : (query.within ?? 'any')}
            options={Object.entries(spans).map(([v, text]) => ({ value: v || 'any', text }))}
            onChange={(v) => {
              setBetween(v === 'between')
              setParams(
                (p) => {
                  for (const name of ['after', 'until', 'within']) p.delete(name)
                  if (v !== 'any' && v !== 'between') p.set('within', v)
                  return p
                },
                { replace: true },
              )
            }}
          />
          {between && (
            <>
              <input
                className={`${inputLook} w-38!`}
                type="date"
                aria-label="From"
                value={query.after?.slice(0, 10) ?? ''}
                onChange={(event) => set('after', event.target.value)}
              />
              <input
                className={`${inputLook} w-38!`}
                type="date"
                aria-label="Before"
                value={query.until?.slice(0, 10) ?? ''}
                onChange={(event) => set('until', event.target.value)}
              />
            </>
          )}
          {Object.keys(query).length > 0 && (
            <button
              type="button"
              className="text-ink-2 cursor-pointer underline underline-offset-3"
              onClick={() => begin({})}
            >
              clear
            </button>
          )}
        </div>
        {searches.length > 0 && (
          <div className="text-ink-2 mb-3 flex flex-wrap items-center gap-2 text-[12.5px]">
            saved:
            {searches.map((s) => (
              <span key={s.id} className="border-line inline-flex items-center gap-1.5 rounded-full border px-2">
                <button type="button" className="hover:text-ink cursor-pointer" onClick={() => begin(s.query)}>
                  {s.name}
                  {s.owner !== me && `, by ${s.owner}`}
                </button>
                {s.owner === me && (
                  <button
                    type="button"
                    className="hover:text-bad cursor-pointer"
                    aria-label={`Forget ${s.name}`}
                    onClick={() => remove.mutate(s.id)}
                  >
                    ×
                  </button>
                )}
              </span>
            ))}
          </div>
        )}
        <Loaded query={audit}>
          {(list) => {
            const items = list.pages.flatMap((p) => p.items)
            return items.length === 0 ? (
              <Empty>The record has nothing of the kind.</Empty>
            ) : (
              <ol>
                {items.map((e) => (
                  <Line key={e.seq} entry={e} />
                ))}
              </ol>
            )
          }}
        </Loaded>
        {audit.hasNextPage && (
          <div className="mt-3 text-center">
            <Button disabled={audit.isFetchingNextPage} onClick={() => void audit.fetchNextPage()}>
              Show more
            </Button>
          </div>
        )}
      </Panel>
    </>
  )
}
