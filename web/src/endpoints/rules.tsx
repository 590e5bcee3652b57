import { useState } from 'react'

import { $api, type Endpoint, type RouteRule, type Split } from '../api/client'
import { short } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button, Field, inputLook, LinkButton, Panel, Problem, Ref, TextField } from '../ui/parts'
import { type RuleDraft, ruleText } from './rule-draft'

/** What rules can look at; all but the first two have a name. */
const looks = ['key', 'caller', 'header', 'cookie', 'input'] as const
const looksText: Record<string, string> = {
  key: 'the key of the caller',
  caller: 'the name of the caller',
  header: 'a header',
  cookie: 'a cookie',
  input: 'an input',
}

const hows = ['is', 'matches', 'range'] as const
const howsText: Record<string, string> = { is: 'is one of', matches: 'matches', range: 'is from … to below' }

/** The rules of a split, in the order in which they are asked. */
export function RuleList({ rules }: { rules: readonly RouteRule[] }) {
  return (
    <ol className="grid">
      {rules.map((r, i) => (
        <li key={i} className="border-line flex flex-wrap gap-x-3 border-t py-1.5 first:border-0">
          <b>{i + 1}</b>
          <span className="[overflow-wrap:anywhere]">{ruleText(r)}</span>
          <span className="text-ink-2">
            goes to <Ref to={r.version}>{short(r.version)}</Ref>
          </span>
        </li>
      ))}
    </ol>
  )
}

/** Rules being written: one row for each, with what each needs. */
export function RuleEditor({
  rules,
  versions,
  onChange,
}: {
  rules: RuleDraft[]
  versions: string[]
  onChange: (rules: RuleDraft[]) => void
}) {
  const set = (i: number, change: Partial<RuleDraft>) =>
    onChange(rules.map((r, at) => (at === i ? { ...r, ...change } : r)))
  return (
    <fieldset className="grid gap-2">
      <legend className="text-ink-2 mb-1 text-[13px]">
        Rules come before shares; the first that is met counts. A version may have a share of 0 and rules alone.
      </legend>
      {rules.map((r, i) => {
        const what = `of rule ${i + 1}`
        return (
          <div key={i} className="border-line flex flex-wrap items-center gap-2 border-t pt-2">
            <b>{i + 1}</b>
            <Choice
              label={`Look at, ${what}`}
              value={r.look}
              onChange={(look) => set(i, { look })}
              options={looks.map((l) => ({ value: l, text: looksText[l] ?? l }))}
            />
            {r.look !== 'key' && r.look !== 'caller' && (
              <input
                className={`${inputLook} w-36!`}
                aria-label={`Name of the ${r.look} ${what}`}
                placeholder="name"
                value={r.name}
                onChange={(event) => set(i, { name: event.target.value })}
              />
            )}
            <Choice
              label={`How, ${what}`}
              value={r.how}
              onChange={(how) => set(i, { how })}
              options={hows.map((h) => ({ value: h, text: howsText[h] ?? h }))}
            />
            <input
              className={`${inputLook} w-40!`}
              aria-label={`Value ${what}`}
              placeholder={r.how === 'range' ? 'from' : r.how === 'is' ? 'one, another' : 'desk-.*'}
              value={r.value}
              onChange={(event) => set(i, { value: event.target.value })}
            />
            {r.how === 'range' && (
              <input
                className={`${inputLook} w-24!`}
                aria-label={`Below ${what}`}
                placeholder="below"
                value={r.below}
                onChange={(event) => set(i, { below: event.target.value })}
              />
            )}
            goes to
            <Choice
              label={`Version ${what}`}
              value={r.version}
              onChange={(version) => set(i, { version })}
              options={versions.map((v) => ({ value: v, text: short(v) }))}
            />
            <LinkButton bad onClick={() => onChange(rules.filter((_, at) => at !== i))}>
              take away
            </LinkButton>
          </div>
        )
      })}
      <div>
        <Button
          onClick={() =>
            onChange([
              ...rules,
              { look: 'key', name: '', how: 'is', value: '', below: '', version: versions.at(-1) ?? '' },
            ])
          }
        >
          Add a rule
        </Button>
      </div>
    </fieldset>
  )
}

/** Whose requests go where before shares count, and a form that answers it for one request. */
export function RulesPanel({ endpoint: e, split }: { endpoint: Endpoint; split: Split }) {
  return (
    <Panel title="Who goes where">
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
        <div>
          {split.rules && split.rules.length > 0 ? (
            <RuleList rules={split.rules} />
          ) : (
            <p className="text-ink-2">No rules: shares alone decide.</p>
          )}
          <p className="text-ink-2 mt-2 text-[13px]">
            Callers stay on their lane by {e.sticky ? e.sticky : 'the header Inner-Ladder-Caller'}.
          </p>
        </div>
        <ExplainForm endpoint={e.name} />
      </div>
    </Panel>
  )
}

function ExplainForm({ endpoint }: { endpoint: string }) {
  const explain = $api.useMutation('post', '/api/v1/endpoints/{endpoint}/explain')
  const [look, setLook] = useState('header')
  const [name, setName] = useState('')
  const [value, setValue] = useState('')
  const named = look === 'header' || look === 'cookie' || look === 'input'
  return (
    <form
      className="grid content-start gap-3"
      onSubmit={(event) => {
        event.preventDefault()
        const headers: Record<string, string> = {}
        if (look === 'header') headers[name.trim()] = value
        if (look === 'cookie') headers['Cookie'] = `${name.trim()}=${value}`
        if (look === 'caller') headers['Inner-Ladder-Caller'] = value
        explain.mutate({
          params: { path: { endpoint } },
          body: {
            headers,
            key: look === 'key' ? value : undefined,
            inputs: look === 'input' ? { [name.trim()]: value } : undefined,
          },
        })
      }}
    >
      <div className="flex flex-wrap items-end gap-2">
        <Field label="A request that has">
          <Choice
            label="A request that has"
            value={look}
            onChange={setLook}
            options={looks.map((l) => ({ value: l, text: looksText[l] ?? l }))}
          />
        </Field>
        {named && <TextField label="named" name="named" required value={name} onChange={setName} />}
        <TextField label="with the value" name="value" required value={value} onChange={setValue} />
        <Button type="submit" disabled={explain.isPending}>
          Where would it go?
        </Button>
      </div>
      {explain.data && (
        <p role="status" className="[overflow-wrap:anywhere]">
          {explain.data.sentence}
        </p>
      )}
      {explain.error && <Problem error={explain.error} />}
    </form>
  )
}
