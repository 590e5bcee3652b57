import { useState } from 'react'

import type { CustomSignal } from '../api/client'
import { useRemoveCustomSignal, useSetCustomSignal } from '../api/custom'
import { Form } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Field, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'

/** Says what a signal is, one that there is or another. */
export function CustomForm({ endpoint, of, done }: { endpoint: string; of?: CustomSignal; done: () => void }) {
  const [name, setName] = useState(of?.name ?? '')
  const [unit, setUnit] = useState(of?.unit ?? '')
  const [better, setBetter] = useState<'lower' | 'higher'>(of?.better ?? 'lower')
  const [about, setAbout] = useState(of?.about ?? '')
  const [reason, setReason] = useState('')
  const set = useSetCustomSignal(endpoint)
  const removal = useRemoveCustomSignal(endpoint, of?.name ?? '')
  return (
    <>
      <Form
        submit={of ? 'Change it' : 'Add it'}
        pending={set.isPending}
        error={set.error}
        onSubmit={() => set.mutate({ name: name.trim(), unit, better, about, reason }, { onSuccess: done })}
      >
        {!of && <TextField label="Name, such as dispatch_cost" required value={name} onChange={setName} />}
        {!of && <TextField label="Unit, such as EUR" value={unit} onChange={setUnit} />}
        <Field label="Which way is better">
          <Choice
            label="Which way is better"
            value={better}
            onChange={(v) => setBetter(v === 'higher' ? 'higher' : 'lower')}
            options={['lower', 'higher'].map((v) => ({ value: v, text: v }))}
          />
        </Field>
        <TextField label="What it is, and where it comes from" value={about} onChange={setAbout} />
        <TextField label="Why" value={reason} onChange={setReason} />
      </Form>
      {of && <Removal name={of.name} question="Why is it taken away?" removal={removal} done={done} />}
    </>
  )
}
