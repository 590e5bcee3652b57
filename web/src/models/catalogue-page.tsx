import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useCatalogue, useVocabulary, type Search } from '../api/queries'
import { Choice } from '../ui/overlays'
import { Button, Empty, inputLook, Loaded, PageHead, Panel, Problem } from '../ui/parts'
import { ModelPlaces } from './places'
import { Filters, SearchField } from './catalogue-filters'
import { FoundTable } from './found-table'

/** The filters that are words, each a choice or a field. */
const plain = [
  'project',
  'task',
  'owner',
  'rung',
  'format',
  'answering',
  'tag',
  'label',
  'licence',
  'data',
  'placed_in',
  'max_age',
  'min_age',
] as const

function readSearch(params: URLSearchParams): Search {
  const out: Record<string, unknown> = {}
  for (const key of ['text', 'sort', 'model', ...plain]) out[key] = params.get(key) ?? undefined
  const metric = params.getAll('metric')
  return {
    ...out,
    metric: metric.length > 0 ? metric : undefined,
    vetted: params.get('vetted') === 'true' || undefined,
  }
}

export function CataloguePage() {
  const [params, setParams] = useSearchParams()
  const search = readSearch(params)
  const found = useCatalogue(search)
  const vocabulary = useVocabulary().data
  const [chosen, setChosen] = useState<string[]>([])
  const [bound, setBound] = useState('')
  // The address bar is asked, not what was there when this was drawn: a field may hand on its text later.
  const change = (how: (next: URLSearchParams) => void) => {
    const next = new URLSearchParams(window.location.search)
    how(next)
    setParams(next, { replace: true })
  }
  const set = (values: Record<string, string | undefined>) =>
    change((next) => {
      for (const [key, value] of Object.entries(values)) {
        if (value) next.set(key, value)
        else next.delete(key)
      }
    })
  const bounds = search.metric ?? []
  const setBounds = (list: string[]) =>
    change((next) => {
      next.delete('metric')
      list.forEach((b) => next.append('metric', b))
    })
  const shownMetrics = [
    ...new Set([...bounds.map((b) => b.split(/[<>]/)[0] ?? ''), (search.sort ?? '').replace(/^-/, '')]),
  ].filter((m) => vocabulary?.metrics.includes(m))
  const items = found.data?.pages.flatMap((p) => p.items)
  return (
    <>
      <PageHead title="Find versions" sub="over all models and projects; every filter must hold">
        {chosen.length > 0 && <Button onClick={() => setChosen([])}>Choose none</Button>}
        {chosen.length > 0 && (
          <Link to={`/models/lineup?versions=${chosen.join(',')}`}>
            <Button look="go" tabIndex={-1}>
              Line up {chosen.length}
            </Button>
          </Link>
        )}
      </PageHead>
      <ModelPlaces />
      <Panel>
        <div className="grid gap-3">
          <SearchField
            className={inputLook}
            label="Words"
            placeholder="words in names, notes, cards, tags, parameters, packages…"
            value={search.text ?? ''}
            onSettle={(text) => set({ text })}
          />
          <Filters search={search} set={set} />
          <div className="flex flex-wrap items-center gap-2">
            <form
              className="flex gap-2"
              onSubmit={(event) => {
                event.preventDefault()
                if (bound.trim()) setBounds([...bounds, bound.trim()])
                setBound('')
              }}
            >
              <input
                className={`${inputLook} w-64!`}
                aria-label="Bound of a metric"
                placeholder="metric, such as rmse<0.4"
                list="metric-names"
                value={bound}
                onChange={(event) => setBound(event.target.value)}
              />
              <datalist id="metric-names">
                {vocabulary?.metrics.map((m) => (
                  <option key={m} value={`${m}<`} />
                ))}
              </datalist>
              <Button type="submit">Add</Button>
            </form>
            {bounds.map((b) => (
              <button
                key={b}
                type="button"
                className="border-line-strong cursor-pointer rounded-full border px-2.5 py-0.5"
                aria-label={`Remove ${b}`}
                onClick={() => setBounds(bounds.filter((x) => x !== b))}
              >
                {b} ✕
              </button>
            ))}
            <span className="ml-auto inline-flex items-center gap-2">
              <span className="text-ink-2">order</span>
              <Choice
                label="Order"
                value={search.sort ?? 'newest'}
                options={[
                  { value: 'newest', text: 'newest first' },
                  { value: 'oldest', text: 'oldest first' },
                  ...(vocabulary?.metrics ?? []).flatMap((m) => [
                    { value: m, text: `best ${m}` },
                    { value: `-${m}`, text: `worst ${m}` },
                  ]),
                ]}
                onChange={(v) => set({ sort: v === 'newest' ? undefined : v })}
              />
            </span>
          </div>
        </div>
      </Panel>
      <Panel>
        {found.error && <Problem error={found.error} />}
        <Loaded query={{ data: items, error: found.error ? null : undefined }}>
          {(list) =>
            list.length === 0 ? (
              <Empty>No version is like that. Leave a filter out.</Empty>
            ) : (
              <>
                <FoundTable
                  items={list}
                  metrics={shownMetrics}
                  chosen={chosen}
                  onChoose={(ref) =>
                    setChosen((before) => (before.includes(ref) ? before.filter((x) => x !== ref) : [...before, ref]))
                  }
                />
                {found.hasNextPage && (
                  <div className="mt-3 text-center">
                    <Button disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
                      Show more
                    </Button>
                  </div>
                )}
              </>
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}
