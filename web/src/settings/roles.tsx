import { useState } from 'react'
import { usePermissions, usePutRole, useRoles } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { Button, Loaded, Panel, Tag, TextField } from '../ui/parts'
import { Checks } from './checks'
import { classes } from '../ui/classes'

export function Roles({ administers }: { administers: boolean }) {
  const roles = useRoles()
  return (
    <Panel
      title="Roles"
      aside={
        administers && (
          <FormSheet title="A role of your own" trigger={<Button>Make a role</Button>}>
            {(done) => <MakeRole done={done} />}
          </FormSheet>
        )
      }
    >
      <Loaded query={roles}>
        {(list) => (
          <dl>
            {list.items.map((r) => (
              <div
                key={r.name}
                className={classes(
                  'border-line grid gap-x-4 border-t py-1.5 first:border-0',
                  'md:grid-cols-[140px_minmax(0,1fr)_minmax(0,1fr)]',
                )}
              >
                <dt>
                  {r.name} {!r.built_in && <Tag tone="quiet">own</Tag>}
                </dt>
                <dd>{r.permissions.join(', ')}</dd>
                <dd className="text-ink-2">{r.description}</dd>
              </div>
            ))}
          </dl>
        )}
      </Loaded>
    </Panel>
  )
}

function MakeRole({ done }: { done: () => void }) {
  const put = usePutRole()
  const permissions = usePermissions().data ?? []
  const [role, setRole] = useState('')
  const [description, setDescription] = useState('')
  const [chosen, setChosen] = useState<string[]>(['read'])
  return (
    <Form
      submit="Make it"
      pending={put.isPending}
      error={put.error}
      onSubmit={() => put.mutate({ role: role.trim(), permissions: chosen, description }, { onSuccess: done })}
    >
      <TextField
        label="Name, in small letters"
        name="role"
        autoCapitalize="none"
        required
        value={role}
        onChange={setRole}
      />
      <TextField label="What it is for" value={description} onChange={setDescription} />
      <Checks
        legend="It may"
        options={permissions.map((p) => ({ value: p.name, text: p.name, what: p.what }))}
        chosen={chosen}
        onChange={setChosen}
      />
    </Form>
  )
}
