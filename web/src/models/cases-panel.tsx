import { useState } from 'react'

import { useCases, useSetCases } from '../api/cases'
import type { Model } from '../api/client'
import { useMay } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { count } from '../ui/format'
import { Ago, Button, Empty, Panel, TextField } from '../ui/parts'

/** What every version of a model must answer where it is deployed. */
export function CasesPanel({ model: m }: { model: Model }) {
  const found = useCases(m.name)
  const may = useMay('manage', m.project)
  const cases = found.error ? undefined : found.data
  return (
    <Panel
      title="Cases"
      aside={
        may && (
          <FormSheet title={`What versions of ${m.name} must answer`} trigger={<Button>Set them</Button>}>
            {(done) => <SetForm model={m} text={cases?.text ?? begin} done={done} />}
          </FormSheet>
        )
      }
    >
      {cases ? (
        <>
          <p className="text-[13.5px]">
            <b className="font-semibold">
              {cases.model}#{cases.number}
            </b>
            : versions must answer {count(cases.count)} cases.{' '}
            <span className="text-ink-2">
              {cases.by}, <Ago at={cases.set_at} />
            </span>
          </p>
          <pre className="bg-ground border-line mt-2 max-h-72 overflow-auto rounded-md border p-3 text-[12.5px]">
            {cases.text}
          </pre>
        </>
      ) : (
        !found.isPending && (
          <Empty command={`innerladder cases ${m.name} cases.yaml -why "what the dispatch desk knows"`}>
            No version needs to answer anything by itself yet:
          </Empty>
        )
      )}
    </Panel>
  )
}

/** A form to begin with. */
const begin = `# base: {hour: 7}        what all cases have; what is not said is as in the sample
cases:
  - name: an answer comes in time
    within: 2s
`

function SetForm({ model: m, text: before, done }: { model: Model; text: string; done: () => void }) {
  const [text, setText] = useState(before)
  const [reason, setReason] = useState('')
  const set = useSetCases(m.name)
  return (
    <Form
      submit="Set them"
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate({ text, reason }, { onSuccess: done })}
    >
      <TextField label="Cases, YAML" name="cases" rows={18} required value={text} onChange={setText} />
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}
