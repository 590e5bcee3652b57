import { useState } from 'react'
import type { Environment } from '../api/client'
import { useHeaders, useRemoveHeader, useSetHeader } from '../api/keeping'
import { Form, FormSheet } from '../ui/form'
import { Ago, Button, LinkButton, Loaded, TextField } from '../ui/parts'

/** What all model servers of an environment are sent with every request and health check. */
export function Headers({ environment: e }: { environment: Environment }) {
  const environment = e.name
  const headers = useHeaders(environment)
  const remove = useRemoveHeader(environment)
  return (
    <div className="border-line flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t pt-2 first:border-0 first:pt-0">
      <span className="text-ink-2">Its servers are sent</span>
      <Loaded query={headers}>
        {(list) =>
          list.items.length === 0 ? (
            <span className="text-ink-2">no header of ours</span>
          ) : (
            list.items.map((h) => (
              <span key={h.name}>
                {h.name}{' '}
                <span className="text-ink-2 text-[12.5px]">
                  by {h.set_by}, <Ago at={h.set_at} />
                </span>{' '}
                <LinkButton bad onClick={() => remove.mutate(h.name)}>
                  remove
                </LinkButton>
              </span>
            ))
          )
        }
      </Loaded>
      <FormSheet title={`A header for ${environment}`} trigger={<Button className="ml-auto">Set a header</Button>}>
        {(done) => <SetHeader environment={environment} done={done} />}
      </FormSheet>
    </div>
  )
}

function SetHeader({ environment, done }: { environment: string; done: () => void }) {
  const set = useSetHeader(environment)
  const [header, setHeader] = useState('Authorization')
  const [value, setValue] = useState('')
  return (
    <Form
      submit="Set it"
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate({ header: header.trim(), value }, { onSuccess: done })}
    >
      <TextField label="Header" name="header" required value={header} onChange={setHeader} />
      <TextField
        label="Value"
        name="value"
        type="password"
        autoComplete="off"
        required
        value={value}
        onChange={setValue}
      />
    </Form>
  )
}
