import { useState } from 'react'
import { useRetention, useSetRetention } from '../api/keeping'
import { Form, FormSheet } from '../ui/form'
import { Button, Facts, Field, inputLook, Loaded, Panel, TextField } from '../ui/parts'

const kept = {
  minutes: 'what lanes did by the minute',
  hours: 'by the hour',
  days: 'by the day',
  readings: 'what guards said, by the second',
  deliveries: 'the log of what was sent',
  notices: 'notices that were read',
  repeats: 'answers to repeated calls',
} as const

type Kept = keyof typeof kept

/** A duration such as 2160h in days where that is whole. */
const days = (d: string) => {
  const hours = /^(\d+)h(0m0s)?$/.exec(d)?.[1]
  return hours && Number(hours) % 24 === 0 ? `${Number(hours) / 24} days` : d
}

export function RetentionPanel() {
  const retention = useRetention()
  return (
    <Panel
      title="How long it is kept"
      aside={
        <FormSheet title="How long it is kept" trigger={<Button>Change</Button>}>
          {(done) => <RetentionForm done={done} />}
        </FormSheet>
      }
    >
      <Loaded query={retention}>
        {(r) => (
          <Facts
            empty=""
            rows={[
              ...(Object.keys(kept) as Kept[]).map((k) => [kept[k], days(r[k])] as const),
              ['logs of requests, for as long as each endpoint says', `${r.request_gib} GiB in all`] as const,
              ['the record', 'for ever'] as const,
            ]}
          />
        )}
      </Loaded>
    </Panel>
  )
}

function RetentionForm({ done }: { done: () => void }) {
  const [before] = useState(useRetention().data)
  const set = useSetRetention()
  const [values, setValues] = useState<Partial<Record<Kept, string>>>(() => ({ ...before }))
  const [gib, setGib] = useState(String(before?.request_gib ?? ''))
  return (
    <Form
      submit="Save"
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate({ ...values, request_gib: Number(gib) }, { onSuccess: done })}
    >
      {(Object.keys(kept) as Kept[]).map((k) => (
        <Field key={k} label={`${kept[k]}, such as 720h`}>
          <input
            className={inputLook}
            value={values[k] ?? ''}
            onChange={(event) => setValues({ ...values, [k]: event.target.value })}
          />
        </Field>
      ))}
      <TextField label="GiB that all logs of requests may have together" value={gib} onChange={setGib} />
    </Form>
  )
}
