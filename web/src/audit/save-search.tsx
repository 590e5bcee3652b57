import { useState } from 'react'
import { useSaveSearch, type AuditSearch } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { Button, TextField } from '../ui/parts'

export function SaveSearch({ query }: { query: AuditSearch }) {
  return (
    <FormSheet title="Save this search" trigger={<Button>Save search</Button>}>
      {(done) => <SaveForm query={query} done={done} />}
    </FormSheet>
  )
}

function SaveForm({ query, done }: { query: AuditSearch; done: () => void }) {
  const save = useSaveSearch()
  const [name, setName] = useState('')
  const [shared, setShared] = useState(false)
  return (
    <Form
      submit="Save"
      pending={save.isPending}
      error={save.error}
      onSubmit={() => save.mutate({ name, shared, query: query as Record<string, string> }, { onSuccess: done })}
    >
      <TextField label="Name" required value={name} onChange={setName} />
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={shared} onChange={(event) => setShared(event.target.checked)} /> everyone who
        may search the record can use it
      </label>
    </Form>
  )
}
