import { useState } from 'react'

import type { Model } from '../api/client'
import { useMay } from '../api/people'
import { useRunStanding, useSetStanding, useStanding, type Standing } from '../api/standing'
import { Form, FormSheet } from '../ui/form'
import { number } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, Field, LinkButton, Panel, Problem, Ref, Tag, TextField, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

const tone = { waiting: 'quiet', going: 'trial', judged: 'main', broken: 'bad' } as const

/** What every new version of a model is evaluated on, and how far each is. */
export function StandingPanel({ model: m }: { model: Model }) {
  const found = useStanding(m.name)
  const may = useMay('manage', m.project)
  return (
    <Panel
      title="Standing evaluation"
      aside={
        may && (
          <FormSheet title={`What new versions of ${m.name} are evaluated on`} trigger={<Button>Set it</Button>}>
            {(done) => <SetForm model={m} done={done} />}
          </FormSheet>
        )
      }
    >
      {found.data && !found.error ? (
        <Shown standing={found.data} project={m.project} />
      ) : (
        !found.isPending && (
          <Empty command={`innerladder standing ${m.name} rows.csv -target COLUMN -against incumbent`}>
            New versions are evaluated on nothing by themselves yet:
          </Empty>
        )
      )}
    </Panel>
  )
}

function Shown({ standing: s, project }: { standing: Standing; project: string }) {
  const may = useMay('register', project)
  const run = useRunStanding()
  const limits = Object.entries(s.limits ?? {}).map(([name, l]) =>
    [l.at_most != null && `${name} ≤ ${number(l.at_most)}`, l.at_least != null && `${name} ≥ ${number(l.at_least)}`]
      .filter(Boolean)
      .join(', '),
  )
  return (
    <>
      <p className="text-[13.5px]">
        <b className="font-semibold">
          {s.model}#{s.number}
        </b>
        : every version after @{s.after} is asked about {s.data ?? s.from ?? s.name} as soon as it can be, and held
        against {s.target}
        {s.against && `, and against ${s.against}`}
        {limits.length > 0 && `; it passes with ${limits.join(', ')}`}.{' '}
        <span className="text-ink-2">
          {s.by}, <Ago at={s.set_at} />
        </span>
      </p>
      {!!run.error && <Problem error={run.error} />}
      {s.runs.length === 0 ? (
        <p className="text-ink-2 mt-2 text-[13px]">No version came after it was set.</p>
      ) : (
        <div className="mt-2 overflow-x-auto">
          <table className="text-[13px]">
            <TableHead columns={['version', 'state', 'job', 'report', '', '']} />
            <tbody>
              {s.runs.map((r, i) => (
                <tr key={r.job ?? `${r.version}-${i}`} className="border-line border-t *:py-1 *:pr-4">
                  <td>
                    <Ref to={r.version} />
                  </td>
                  <td>
                    <Tag tone={r.verdict === 'failed' ? 'bad' : tone[r.state]}>
                      {r.verdict && r.verdict !== 'none' ? r.verdict : r.state}
                    </Tag>
                  </td>
                  <td>{r.job && <To to={`/models/jobs/${r.job}`}>{r.job}</To>}</td>
                  <td>{r.evidence && <To to={report(r.version)}>{r.evidence}</To>}</td>
                  <td className="text-ink-2 max-w-[50ch]">{r.why}</td>
                  <td>{may && r.job && <LinkButton onClick={() => run.mutate(r.version)}>again</LinkButton>}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}

const report = (ref: string) => {
  const [model = '', version = ''] = ref.split('@')
  return `/models/${model}/versions/${version}?show=evidence`
}

function SetForm({ model: m, done }: { model: Model; done: () => void }) {
  const set = useSetStanding(m.name)
  const [file, setFile] = useState<File>()
  const [target, setTarget] = useState('')
  const [limits, setLimits] = useState('')
  const [against, setAgainst] = useState('incumbent')
  const [reason, setReason] = useState('')
  return (
    <Form
      submit="Set it"
      pending={set.isPending || !file}
      error={set.error}
      onSubmit={() =>
        file &&
        set.mutate(
          { file, target: target.trim(), at_most: limits, against: against === 'nobody' ? '' : against, reason },
          { onSuccess: done },
        )
      }
    >
      <Field label="Rows with the truth: CSV, JSON lines or Parquet">
        <input type="file" aria-label="Rows" onChange={(event) => setFile(event.target.files?.[0])} />
      </Field>
      <TextField label="Column with the truth" required value={target} onChange={setTarget} />
      <TextField label="What measures may be at most, such as rmse=0.2,mae=0.1" value={limits} onChange={setLimits} />
      <Field label="Each is held against">
        <Choice
          label="Each is held against"
          value={against}
          options={[
            { value: 'incumbent', text: 'whoever answers by then' },
            { value: 'nobody', text: 'nobody' },
          ]}
          onChange={setAgainst}
        />
      </Field>
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}
