import { Check, CircleAlert, Clock, Copy, X } from 'lucide-react'
import { Tooltip } from 'radix-ui'
import { useEffect, useRef, useState, type ComponentProps, type ReactNode } from 'react'
import { Link } from 'react-router'

import { ProblemError } from '../api/client'
import { classes } from './classes'
import { useClock } from './clock'
import { ago, exact } from './format'

export function Panel({
  title,
  aside,
  className,
  children,
}: {
  title?: ReactNode
  aside?: ReactNode
  className?: string
  children: ReactNode
}) {
  return (
    <section className={classes('border-line bg-panel min-w-0 rounded-[10px] border px-4.5 py-4', className)}>
      {(title || aside) && (
        <div className="mb-2.5 flex items-baseline justify-between gap-4 *:mb-0">
          {title && <h2>{title}</h2>}
          {aside}
        </div>
      )}
      {children}
    </section>
  )
}

export function PageHead({ title, sub, children }: { title: ReactNode; sub?: ReactNode; children?: ReactNode }) {
  const heading = useRef<HTMLHeadingElement>(null)
  useEffect(() => {
    const text = heading.current?.textContent
    if (text) document.title = `${text} – Inner Ladder`
  })
  return (
    <header className="flex flex-wrap items-start justify-between gap-4">
      <div className="min-w-0">
        <h1 ref={heading} tabIndex={-1} className="outline-none">
          {title}
        </h1>
        {sub && <div className="text-ink-2 mt-0.5">{sub}</div>}
      </div>
      {children && <div className="flex flex-wrap gap-2">{children}</div>}
    </header>
  )
}

const looks = {
  plain: 'border-line-strong bg-panel text-ink hover:bg-paper',
  go: 'border-main bg-main text-on-main hover:opacity-90',
  back: 'border-bad bg-panel text-bad hover:bg-bad-soft',
} as const

export function Button({
  look = 'plain',
  className,
  ...rest
}: ComponentProps<'button'> & { look?: keyof typeof looks }) {
  return (
    <button
      type="button"
      className={classes(
        'inline-flex cursor-pointer items-center gap-1.5 rounded-md border px-3 py-1.5 font-medium disabled:cursor-default disabled:opacity-50',
        looks[look],
        className,
      )}
      {...rest}
    />
  )
}

const tones = {
  main: 'text-main',
  trial: 'text-trial',
  bad: 'text-bad',
  quiet: 'text-ink-2',
} as const
type Tone = keyof typeof tones

export function Tag({ tone, children }: { tone: Tone; children: ReactNode }) {
  return (
    <span
      className={classes(
        'inline-block rounded-full border border-current px-2 text-[12px] leading-[1.5] whitespace-nowrap',
        tones[tone],
      )}
    >
      {children}
    </span>
  )
}

/** How far something is met: a shape and a word. */
export function StateMark({ state }: { state: 'passed' | 'failed' | 'waiting' }) {
  const [Icon, tone] = (
    { passed: [Check, 'text-main'], failed: [X, 'text-bad'], waiting: [Clock, 'text-trial'] } as const
  )[state]
  return (
    <span className={classes('inline-flex w-20 shrink-0 items-baseline gap-1.5', tone)}>
      <Icon size={14} aria-hidden className="self-center" /> {state}
    </span>
  )
}

/** What a comparison came to, from the candidate's point of view. */
export function Verdict({ verdict, detail }: { verdict: string; detail?: string }) {
  const tone = /better|steady|compatible|passed/.test(verdict)
    ? 'text-main'
    : /look|widened|less than the margin/.test(verdict)
      ? 'text-trial'
      : /worse|^moved|breaking/.test(verdict)
        ? 'text-bad'
        : 'text-ink-2'
  return (
    <span className={classes(verdict.startsWith('not enough') ? 'italic' : 'font-semibold', tone)}>
      {verdict}
      {detail && ` ${detail}`}
    </span>
  )
}

function Hint({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={4}
          className="bg-ink text-paper z-30 max-w-[46ch] rounded-md px-2.5 py-1.5 text-[12.5px]"
        >
          {text}
          <Tooltip.Arrow className="fill-ink" />
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  )
}

/** A time as how long ago it was, with the exact moment on hover. */
export function Ago({ at }: { at: string }) {
  const now = useClock()
  const date = new Date(at)
  return (
    <Hint text={exact(date)}>
      <time dateTime={at} tabIndex={0} className="cursor-default whitespace-nowrap">
        {ago(date, now)}
      </time>
    </Hint>
  )
}

const linkLook = 'text-ink decoration-line-strong font-medium underline underline-offset-3 hover:decoration-main'

export function Ref({ to, children }: { to: string; children?: ReactNode }) {
  const [model, number] = to.split('@')
  return (
    <Link className={linkLook} to={`/models/${model ?? ''}/versions/${number ?? ''}`}>
      {children ?? to}
    </Link>
  )
}

export function To({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link className={linkLook} to={to}>
      {children}
    </Link>
  )
}

/** The link of anything that the record names: a version, an endpoint, a model, a run, a promotion, an alert. */
export function Subject({ kind, subject }: { kind: string; subject: string }) {
  if (/@\d+$/.test(subject)) return <Ref to={subject} />
  if (subject.includes('@')) return <To to={`/models/${subject.split('@')[0] ?? ''}`}>{subject}</To>
  if (/^run-\d+$/.test(subject)) return <To to={`/models/runs/${subject}`}>{subject}</To>
  if (/^P-\d+$/.test(subject)) return <To to={`/reviews/${subject}`}>{subject}</To>
  if (/^R-\d+$/.test(subject)) return <To to={`/rollouts/${subject}`}>{subject}</To>
  if (/^J-\d+$/.test(subject)) return <To to={`/models/jobs/${subject}`}>{subject}</To>
  if (/^I-\d+$/.test(subject)) return <To to={`/incidents/${subject}`}>{subject}</To>
  if (/^A-\d+$/.test(subject)) return <To to="/alerts">{subject}</To>
  if (kind.startsWith('comment.')) return <To to={`/activity?subject=${subject}`}>{subject}</To>
  if (/^(split|rollout|contract|endpoint|alert|caller)\./.test(kind) && subject !== '')
    return <To to={`/endpoints/${subject}`}>{subject}</To>
  if (kind.startsWith('model.')) return <To to={`/models/${subject}`}>{subject}</To>
  return <>{subject}</>
}

/** What to do when there is nothing yet, with the command to copy. */
export function Empty({ children, command }: { children: ReactNode; command?: string }) {
  const [copied, setCopied] = useState(false)
  return (
    <div className="text-ink-2 py-1">
      <p>{children}</p>
      {command && (
        <div className="border-line bg-paper mt-2 inline-flex max-w-full items-center gap-3 rounded-md border px-3 py-1.5">
          <code className="text-ink overflow-x-auto text-[13px] whitespace-nowrap">{command}</code>
          <button
            type="button"
            aria-label="Copy the command"
            className="cursor-pointer"
            onClick={() => void navigator.clipboard.writeText(command).then(() => setCopied(true))}
          >
            {copied ? <Check size={14} /> : <Copy size={14} />}
          </button>
        </div>
      )}
    </div>
  )
}

export function Problem({ error }: { error: unknown }) {
  const p = error instanceof ProblemError ? error.problem : undefined
  return (
    <div role="alert" className="border-bad bg-bad-soft flex gap-2.5 rounded-md border px-3 py-2">
      <CircleAlert size={16} className="text-bad mt-0.5 shrink-0" aria-hidden />
      <div>
        <div>{p?.detail ?? (error instanceof Error ? error.message : 'Something went wrong')}</div>
        {p?.remedy && <div className="text-ink-2">{p.remedy}</div>}
      </div>
    </div>
  )
}

/** Shows what a query read, or why it could not. */
export function Loaded<T>({
  query,
  children,
}: {
  query: { data: T | undefined; error: unknown }
  children: (data: T) => ReactNode
}) {
  if (query.data !== undefined) return <>{children(query.data)}</>
  if (query.error) return <Problem error={query.error} />
  return <div className="text-ink-3 py-2">Reading…</div>
}

/** Named values, one a line. */
export function Facts({ rows, empty }: { rows: readonly (readonly [string, ReactNode])[]; empty: string }) {
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

export function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="grid gap-1">
      <span className="text-ink-2 text-[13px]">{label}</span>
      {children}
    </label>
  )
}

/** A field for text, of several lines when rows are given. */
export function TextField({
  label,
  value,
  onChange,
  rows,
  ...more
}: {
  label: string
  value: string
  onChange: (text: string) => void
  rows?: number
} & Pick<
  ComponentProps<'input'>,
  'name' | 'type' | 'required' | 'placeholder' | 'autoComplete' | 'autoCapitalize' | 'autoFocus'
>) {
  return (
    <Field label={label}>
      {rows ? (
        <textarea
          className={inputLook}
          rows={rows}
          name={more.name}
          required={more.required}
          placeholder={more.placeholder}
          value={value}
          onChange={(event) => onChange(event.target.value)}
        />
      ) : (
        <input className={inputLook} value={value} onChange={(event) => onChange(event.target.value)} {...more} />
      )}
    </Field>
  )
}

/** A button that looks like a link, for a small thing done to one item of a list. */
export function LinkButton({
  bad = false,
  onClick,
  children,
}: {
  bad?: boolean
  onClick: () => void
  children: ReactNode
}) {
  return (
    <button
      type="button"
      className={`${bad ? 'text-bad ' : ''}cursor-pointer text-[12.5px] underline underline-offset-3`}
      onClick={onClick}
    >
      {children}
    </button>
  )
}

export const inputLook = 'border-line-strong bg-panel w-full rounded-md border px-2.5 py-1.5'
