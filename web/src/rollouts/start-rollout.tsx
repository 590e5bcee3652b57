import { useState } from 'react'
import { useNavigate } from 'react-router'

import type { Endpoint } from '../api/client'
import { usePlacements } from '../api/queries'
import { useOutlook, usePlans, useStartRollout, type Outlook } from '../api/rollouts'
import { Form, FormSheet } from '../ui/form'
import { count, percent, share, signalText } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button, Field, Problem, TextField } from '../ui/parts'
import { lasting, planName } from './words'
import { mainOf } from '../endpoints/main-of'

/** Starts a rollout, and shows while one chooses how long it would take and what it would risk. */
export function StartRollout({ endpoint: e }: { endpoint: Endpoint }) {
  return (
    <FormSheet title={`Roll out another version to ${e.name}`} trigger={<Button look="go">Roll out…</Button>}>
      {() => <StartForm endpoint={e} />}
    </FormSheet>
  )
}

function StartForm({ endpoint: e }: { endpoint: Endpoint }) {
  const main = mainOf(e)
  const placed = (usePlacements().data?.items ?? []).filter(
    (p) => p.environment === e.environment && p.version.startsWith(`${e.model}@`) && p.version !== main,
  )
  const plans = (usePlans().data?.items ?? []).filter((p) => !p.project || p.project === e.project)
  const [to, setTo] = useState('')
  const [plan, setPlan] = useState('careful')
  const [reason, setReason] = useState('')
  const [at, setAt] = useState('')
  const start = useStartRollout(e.name)
  const go = useNavigate()
  const chosen = to || placed.at(-1)?.version || ''
  const outlook = useOutlook(e.name, { to: chosen, plan })
  const about = plans.find((p) => p.name === plan)?.about
  return (
    <Form
      submit="Start it"
      pending={start.isPending || chosen === ''}
      error={start.error}
      onSubmit={() => {
        // The form is gone as soon as the endpoint is known to move, so its own callbacks would not be called.
        start
          .mutateAsync({ to: chosen, plan, reason, ...(at && { starts_at: new Date(at).toISOString() }) })
          .then((o) => go(`/rollouts/${o.id}`))
          .catch(() => undefined) // the form shows it
      }}
    >
      {placed.length === 0 ? (
        <p className="text-ink-2">
          No other version of {e.model} is placed in {e.environment}. Place one first.
        </p>
      ) : (
        <div className="grid grid-cols-2 gap-4">
          <Field label="To the version">
            <Choice
              label="To the version"
              value={chosen}
              options={placed.map((p) => ({ value: p.version, text: p.version }))}
              onChange={setTo}
            />
          </Field>
          <Field label="By the plan">
            <Choice
              label="By the plan"
              value={plan}
              options={plans.map((p) => ({ value: p.name, text: `${planName(p)}, ${p.kind.replace('_', '-')}` }))}
              onChange={setPlan}
            />
          </Field>
        </div>
      )}
      {about && <p className="text-ink-2 text-[13px]">{about}</p>}
      {outlook.error ? <Problem error={outlook.error} /> : outlook.data && <OutlookView outlook={outlook.data} />}
      <div className="grid grid-cols-2 gap-4">
        <TextField label="Why" placeholder="colder weather ahead" value={reason} onChange={setReason} />
        <Field label="Begins at (now when empty)">
          <input
            type="datetime-local"
            aria-label="Begins at"
            className="border-line-strong bg-panel w-full rounded-md border px-2.5 py-1.5"
            value={at}
            onChange={(event) => setAt(event.target.value)}
          />
        </Field>
      </div>
    </Form>
  )
}

/** What a rollout would do: what each step takes, and how soon worse versions are noticed. */
export function OutlookView({ outlook: o }: { outlook: Outlook }) {
  const f = o.forecast
  return (
    <div className="border-line rounded-md border p-3 text-[13px]" data-outlook>
      <p>
        {f.takes ? (
          <>
            Takes about <b className="font-semibold">{lasting(f.takes)}</b> with a version that is as good,
          </>
        ) : (
          'How long it takes cannot be told,'
        )}{' '}
        at {f.traffic.rate.toFixed(f.traffic.rate < 10 ? 1 : 0)} requests a second.
      </p>
      <table className="mt-2 w-full">
        <thead className="text-ink-3 text-left text-[12px]">
          <tr>
            <th className="font-normal">step</th>
            <th className="font-normal">takes</th>
            <th className="font-normal">because</th>
            <th className="text-right font-normal">on trial</th>
          </tr>
        </thead>
        <tbody>
          {f.steps.map((s) => (
            <tr key={s.name} className="border-line border-t">
              <td className="py-1 pr-2">{s.share === 10_000 ? 'bake' : s.share ? share(s.share) : s.name}</td>
              <td className="pr-2 whitespace-nowrap">{s.takes ? lasting(s.takes) : '–'}</td>
              <td className="text-ink-2 pr-2">{s.because.replace(/_/g, ' ')}</td>
              <td className="text-right">{s.takes ? count(s.requests) : '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {f.differences && f.differences.length > 0 && (
        <>
          <h2 className="mt-3">
            What it decides of {signalText(o.plan.compare.signal ?? '')}, within {lasting(o.plan.compare.most ?? '0s')}
          </h2>
          <table className="w-full">
            <thead className="text-ink-3 text-left text-[12px]">
              <tr>
                <th className="font-normal">true difference</th>
                <th className="font-normal">requests</th>
                <th className="font-normal">takes about</th>
                <th className="text-right font-normal">decided in time</th>
              </tr>
            </thead>
            <tbody>
              {f.differences.map((d) => (
                <tr key={d.more} className="border-line border-t">
                  <td className="py-1">{d.more === 0 ? 'none' : `${percent(d.more, 1)} more`}</td>
                  <td>{count(d.requests)}</td>
                  <td>{d.after ? lasting(d.after) : '–'}</td>
                  <td className="text-right">{d.chance >= 0.995 ? 'surely' : percent(d.chance, 0)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {f.harms.length > 0 && (
        <>
          <h2 className="mt-3">A version that fails more</h2>
          <table className="w-full">
            <thead className="text-ink-3 text-left text-[12px]">
              <tr>
                <th className="font-normal">more fail</th>
                <th className="font-normal">is noticed</th>
                <th className="font-normal">after about</th>
                <th className="text-right font-normal">bad answers</th>
              </tr>
            </thead>
            <tbody>
              {f.harms.map((h) => (
                <tr key={h.more} className="border-line border-t">
                  <td className="py-1">{percent(h.more, 1)}</td>
                  <td>{h.noticed >= 0.995 ? 'surely' : percent(h.noticed, 0)}</td>
                  <td>{h.after ? lasting(h.after) : 'after it has all'}</td>
                  <td className="text-right">{h.after ? count(Math.max(1, h.bad_answers)) : '–'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {f.notes.map((n) => (
        <p key={n} className="text-trial mt-2">
          {n}
        </p>
      ))}
      {o.lacking.length > 0 && (
        <>
          <h2 className="mt-3">What is lacking</h2>
          <ul className="text-bad grid gap-1">
            {o.lacking.map((l) => (
              <li key={l}>✕ {l}</li>
            ))}
          </ul>
        </>
      )}
    </div>
  )
}
