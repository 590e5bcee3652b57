import { useMemo, useRef, useState } from 'react'
import { Link, useSearchParams } from 'react-router'

import type { Found } from '../api/client'
import { usePeople } from '../api/people'
import { useCatalogue, useEndpoints, useEnvironments, useProjects, useVocabulary, type Search } from '../api/queries'
import { DataTable, type Columns } from '../ui/data-table'
import { number } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, inputLook, Loaded, PageHead, Panel, Problem, Ref, Tag, To } from '../ui/parts'
import { ModelPlaces } from './places'

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

/** A field that hands on what was typed once the typing rests, so that no letter is lost and not every letter is asked for. */
function SearchField({
  value,
  onSettle,
  label,
  ...rest
}: {
  value: string
  onSettle: (text: string) => void
  label: string
  placeholder: string
  className: string
}) {
  const [text, setText] = useState(value)
  const timer = useRef<number>(undefined)
  return (
    <input
      {...rest}
      aria-label={label}
      value={text}
      onChange={(event) => {
        const next = event.target.value
        setText(next)
        window.clearTimeout(timer.current)
        timer.current = window.setTimeout(() => onSettle(next), 250)
      }}
    />
  )
}

const all = 'any'

/** How long ago a version was registered; with a hyphen, at least so long. */
const ages = [
  { value: all, text: 'any time' },
  { value: '24h', text: 'in the last day' },
  { value: '168h', text: 'in the last week' },
  { value: '720h', text: 'in the last 30 days' },
  { value: '-720h', text: 'more than 30 days ago' },
  { value: '-8760h', text: 'more than a year ago' },
]

function Filters({ search, set }: { search: Search; set: (values: Record<string, string | undefined>) => void }) {
  const vocabulary = useVocabulary().data
  const projects = useProjects().data?.items.map((p) => p.name) ?? []
  const people = usePeople().data?.items.map((p) => p.name) ?? []
  const environments = useEnvironments().data?.items.map((e) => e.name) ?? []
  const endpoints = useEndpoints().data?.items.map((e) => e.name) ?? []
  const setAge = (age: string) =>
    set({
      max_age: age === all || age.startsWith('-') ? undefined : age,
      min_age: age.startsWith('-') ? age.slice(1) : undefined,
    })
  const choices: [keyof Search, string, string[]][] = [
    ['task', 'task', ['regression', 'classification', 'other']],
    ['rung', 'rung', vocabulary?.rungs ?? []],
    ['format', 'format', vocabulary?.formats ?? []],
    ['project', 'project', projects],
    ['owner', 'owner', people],
    ['answering', 'answers', ['any endpoint', ...endpoints]],
    ['placed_in', 'placed in', environments],
  ]
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      {choices.map(([key, text, options]) => (
        <span key={key} className="inline-flex items-center gap-1.5">
          <span className="text-ink-2">{text}</span>
          <Choice
            label={text}
            value={key === 'answering' && search.answering === 'any' ? 'any endpoint' : String(search[key] ?? all)}
            options={[all, ...options].map((o) => ({ value: o, text: o }))}
            onChange={(v) => set({ [key]: v === all ? undefined : v === 'any endpoint' ? 'any' : v })}
          />
        </span>
      ))}
      <span className="inline-flex items-center gap-1.5">
        <span className="text-ink-2">registered</span>
        <Choice
          label="registered"
          value={search.max_age ?? (search.min_age ? `-${search.min_age}` : all)}
          options={ages}
          onChange={setAge}
        />
      </span>
      {(
        [
          ['tag', 'tag'],
          ['label', 'label'],
          ['licence', 'licence'],
          ['data', 'data set'],
        ] as const
      ).map(([key, text]) => (
        <SearchField
          key={key}
          className={`${inputLook} w-28!`}
          label={text}
          placeholder={text}
          value={search[key] ?? ''}
          onSettle={(value) => set({ [key]: value.trim() })}
        />
      ))}
      <label className="inline-flex items-center gap-1.5">
        <input
          type="checkbox"
          checked={search.vetted ?? false}
          onChange={(event) => set({ vetted: event.target.checked ? 'true' : undefined })}
        />{' '}
        vetted
      </label>
    </div>
  )
}

function FoundTable({
  items,
  metrics,
  chosen,
  onChoose,
}: {
  items: Found[]
  metrics: string[]
  chosen: string[]
  onChoose: (ref: string) => void
}) {
  const key = metrics.join()
  const columns = useMemo<Columns<Found>>(
    () => [
      {
        accessorKey: 'ref',
        header: 'version',
        enableSorting: false,
        cell: ({ row: { original: v } }) => (
          <span className="flex items-baseline gap-2">
            <input
              type="checkbox"
              aria-label={`Choose ${v.ref}`}
              checked={chosen.includes(v.ref)}
              onChange={() => onChoose(v.ref)}
            />
            <span>
              <Ref to={v.ref} /> <span className="text-ink-2">{v.rung}</span>{' '}
              {v.vetted && <Tag tone="main">vetted</Tag>}{' '}
              {v.labels?.map((l) => (
                <Tag key={l} tone="trial">
                  {l}
                </Tag>
              ))}{' '}
              {v.tags?.map((t) => (
                <Tag key={t} tone="quiet">
                  {t}
                </Tag>
              ))}
              {v.note && <div className="text-ink-2 text-[12.5px]">{v.note}</div>}
            </span>
          </span>
        ),
      },
      { accessorKey: 'task', header: 'task', enableSorting: false },
      ...(key === ''
        ? [
            {
              id: 'metrics',
              header: 'metrics',
              enableSorting: false,
              cell: ({ row }: { row: { original: Found } }) => (
                <span className="text-[12.5px]">
                  {Object.entries(row.original.metrics)
                    .slice(0, 3)
                    .map(([k, x]) => `${k} ${number(x)}`)
                    .join(' · ') || '–'}
                </span>
              ),
            },
          ]
        : key.split(',').map((m) => ({
            id: m,
            header: m,
            enableSorting: false,
            cell: ({ row }: { row: { original: Found } }) =>
              row.original.metrics[m] === undefined ? '–' : number(row.original.metrics[m]),
          }))),
      { id: 'format', header: 'format', enableSorting: false, cell: ({ row }) => row.original.formats.join(', ') },
      {
        id: 'answers',
        header: 'answers for',
        enableSorting: false,
        cell: ({ row }) =>
          (row.original.answering ?? []).map((e) => (
            <To key={e} to={`/endpoints/${e}`}>
              {e}
            </To>
          )),
      },
      { accessorKey: 'owner', header: 'owner', enableSorting: false },
      {
        accessorKey: 'created_at',
        header: 'registered',
        enableSorting: false,
        cell: ({ row }) => <Ago at={row.original.created_at} />,
      },
    ],
    [key, chosen, onChoose],
  )
  return <DataTable label="Versions found" data={items} columns={columns} />
}
