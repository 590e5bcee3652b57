import { useState } from 'react'

import type { Watches } from '../api/client'
import { usePutWatches } from '../api/watches'
import { Form } from '../ui/form'
import { TextField } from '../ui/parts'

/** What is said about the watching of an endpoint, as the file that the command line reads. */
export function WatchFile({ of, done }: { of: Watches; done: () => void }) {
  const [text, setText] = useState(of.text)
  const [revision] = useState(of.set.revision ?? 0)
  const [reason, setReason] = useState('')
  const put = usePutWatches(of.endpoint, revision)
  return (
    <Form
      submit="Watch it so"
      pending={put.isPending}
      error={put.error}
      onSubmit={() => put.mutate({ text, reason }, { onSuccess: done })}
    >
      <textarea
        aria-label="Watches, as YAML"
        spellCheck={false}
        rows={18}
        className="border-line-strong bg-panel w-full rounded-md border px-2.5 py-1.5 font-mono text-[12.5px]"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}
