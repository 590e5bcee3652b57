import { useRef, useState } from 'react'
import { usePeople } from '../api/people'
import { useEndpoints, useEnvironments, useProjects, useVocabulary, type Search } from '../api/queries'
import { Choice } from '../ui/overlays'
import { inputLook } from '../ui/parts'

/** A field that hands on what was typed once the typing rests: no letter is lost, and not every one is asked for. */
export function SearchField({
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

export function Filters({
  search,
  set,
}: {
  search: Search
  set: (values: Record<string, string | undefined>) => void
}) {
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
