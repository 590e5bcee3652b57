import { useState } from 'react'

import { useMute } from '../api/watches'
import { words } from '../ui/format'
import { Form, FormSheet } from '../ui/form'
import { Choice, Switchboard } from '../ui/overlays'
import { Button, Field, TextField } from '../ui/parts'

const lengths = ['1h', '4h', '24h', '168h']

/** Has no alerts raised about a subject of an endpoint's watches for a time. */
export function MuteSheet({ endpoint, subjects }: { endpoint: string; subjects: string[] }) {
  return (
    <FormSheet title={`Mute alerts of ${endpoint}`} trigger={<Button>Mute</Button>}>
      {(done) => <MuteForm endpoint={endpoint} subjects={subjects} done={done} />}
    </FormSheet>
  )
}

function MuteForm({ endpoint, subjects, done }: { endpoint: string; subjects: string[]; done: () => void }) {
  const [subject, setSubject] = useState(subjects[0] ?? 'all')
  const [length, setLength] = useState('1h')
  const [reason, setReason] = useState('')
  const mute = useMute(endpoint)
  return (
    <Form
      submit="Raise none of them"
      pending={mute.isPending}
      error={mute.error}
      onSubmit={() => mute.mutate({ subject, for: length, reason }, { onSuccess: done })}
    >
      <p className="text-ink-2">
        Nobody is told, and no watch holds or goes back, until then. What is still wrong afterwards is told at once.
      </p>
      <Field label="Alerts about">
        <Choice
          label="Alerts about"
          value={subject}
          onChange={setSubject}
          options={subjects.map((s) => ({ value: s, text: s === 'all' ? 'anything that is watched' : words(s) }))}
        />
      </Field>
      <Field label="For">
        <Switchboard label="For" value={length} options={lengths} onChange={setLength} />
      </Field>
      <TextField label="Why" name="why" value={reason} onChange={setReason} required />
    </Form>
  )
}
