import { useState } from 'react'

import { Form } from './form'
import { TextField } from './parts'

/** Takes something away for a reason; below what else can be done with it. */
export function Removal({
  name,
  question,
  needed = false,
  removal,
  done,
}: {
  name: string
  question: string
  needed?: boolean
  removal: {
    isPending: boolean
    error: unknown
    mutate: (reason: string, then: { onSuccess: () => void }) => void
  }
  done: () => void
}) {
  const [reason, setReason] = useState('')
  return (
    <div className="border-line border-t pt-4">
      <Form
        submit={`Take ${name} away`}
        pending={removal.isPending}
        error={removal.error}
        onSubmit={() => removal.mutate(reason, { onSuccess: done })}
      >
        <TextField label={question} required={needed} value={reason} onChange={setReason} />
      </Form>
    </div>
  )
}
