import { useState } from 'react'

import type { Watches } from '../api/client'
import { useEndpoint } from '../api/queries'
import { useSetWatch, type NewWatch } from '../api/watches'
import { words } from '../ui/format'
import { Form } from '../ui/form'
import { Choice } from '../ui/overlays'
import { TextField } from '../ui/parts'

type Rule = NonNullable<Watches['set']['watches']>[number]
type Then = NonNullable<Rule['then']>

const thens: Record<Then, string> = { notify: 'Tell', hold: 'Hold the rollout', roll_back: 'Go back' }

const versus: Record<string, string> = {
  '': 'nothing else',
  yesterday: 'what it was in the day before',
  last_week: 'what it was a week ago',
  main: 'what it is of main now (of the trial lane)',
  registered: 'what it was at registration',
}

/** A watch as a sentence that is filled in. */
export function WatchSentence({ of, rule, done }: { of: Watches; rule?: Rule; done: () => void }) {
  const [first = 'error_rate', ...rest] = (rule?.signal ?? 'error_rate').split('.')
  const [signal, setSignal] = useState(first)
  const [column, setColumn] = useState(rest.join('.'))
  const [then, setThen] = useState<Then>(rule?.then ?? 'notify')
  const [limit, setLimit] = useState(rule?.limit ?? '')
  const [against, setAgainst] = useState<string>(rule?.versus ?? '')
  const [times, setTimes] = useState(String(rule?.times ?? 2))
  const [least, setLeast] = useState(String(rule?.least ?? ''))
  const [lasts, setLasts] = useState<string>(rule?.for ?? '')
  const [about, setAbout] = useState(rule?.about ?? '')
  const [off, setOff] = useState(rule?.off ?? false)
  const [reason, setReason] = useState('')
  const set = useSetWatch(of.endpoint)
  const own = useEndpoint(of.endpoint).data?.custom ?? []
  const custom = signal === 'custom' ? (own.find((c) => c.name === column) ?? own[0]) : undefined
  const can = of.watchable.find((w) => w.signal === signal)
  const mayThen = can?.then ?? ['notify']
  const mayVersus = ['', ...(can?.versus ?? [])]
  const held = mayVersus.includes(against) ? against : ''
  const part = custom?.name ?? column.trim()
  const name = can?.of_columns && part ? `${signal}.${part}` : signal
  const below = signal === 'request_rate' || signal === 'accuracy' || custom?.better === 'higher'
  const terms: Omit<NewWatch, 'signal'> = {
    limit: limit.trim(),
    ...(held && { versus: held as NonNullable<Rule['versus']>, times: Number(times) }),
    ...(least && { least: Number(least) }),
    ...(lasts && { for: lasts.trim() }),
    then: mayThen.includes(then) ? then : 'notify',
  }
  return (
    <Form
      submit="Watch it so"
      pending={set.isPending}
      error={set.error}
      onSubmit={() =>
        set.mutate({ signal: name, ...(off ? { off } : terms), ...(about && { about }), reason }, { onSuccess: done })
      }
    >
      <div className="flex flex-wrap items-center gap-2">
        {off ? (
          'Do not watch'
        ) : (
          <>
            <Choice
              label="What follows"
              value={mayThen.includes(then) ? then : 'notify'}
              onChange={(t) => setThen(t as Then)}
              options={mayThen.map((t) => ({ value: t, text: thens[t] }))}
            />
            when
          </>
        )}
        <Choice
          label="Signal"
          value={signal}
          onChange={setSignal}
          options={of.watchable
            .filter((w) => w.signal !== 'custom' || own.length > 0)
            .map((w) => ({ value: w.signal, text: words(w.signal) }))}
        />
        {custom && (
          <Choice
            label="Custom signal"
            value={custom.name}
            onChange={setColumn}
            options={own.map((c) => ({ value: c.name, text: c.name }))}
          />
        )}
        {can?.of_columns && !custom && (
          <>
            of <Blank label="Column" value={column} onChange={setColumn} wide hint="any column" />
          </>
        )}
        {!off && (
          <>
            is {below ? 'below' : 'above'}
            <Blank label="Limit" value={limit} onChange={setLimit} hint={hints[can?.unit ?? '']} />
            {mayVersus.length > 1 && (
              <>
                {held ? 'and' : 'and held against'}
                {held && (
                  <>
                    <Blank label="Times" value={times} onChange={setTimes} /> times
                  </>
                )}
                <Choice
                  label="Held against"
                  value={held || 'none'}
                  onChange={(v) => setAgainst(v === 'none' ? '' : v)}
                  options={mayVersus.map((v) => ({ value: v || 'none', text: versus[v] ?? v }))}
                />
              </>
            )}
            after <Blank label="Requests" value={least} onChange={setLeast} hint="0" /> requests, for
            <Blank label="Lasting" value={lasts} onChange={setLasts} hint="0s" />.
          </>
        )}
      </div>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={off} onChange={(event) => setOff(event.target.checked)} /> do not watch it at
        all
      </label>
      <TextField label="Tell this with the alert" value={about} onChange={setAbout} />
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}

const hints: Record<string, string> = { '%': '1 %', s: '200ms', '': '0.2' }

/** A blank in a sentence. */
function Blank(of: { label: string; value: string; onChange: (v: string) => void; hint?: string; wide?: boolean }) {
  return (
    <input
      aria-label={of.label}
      className={`border-line-strong bg-panel rounded-md border px-2 py-1 leading-normal ${of.wide ? 'w-32' : 'w-20'}`}
      value={of.value}
      placeholder={of.hint}
      onChange={(event) => of.onChange(event.target.value)}
    />
  )
}
