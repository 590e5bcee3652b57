import { useState } from 'react'
import { useAddPerson, useMay, usePeople } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { Button, Loaded, Panel, TextField } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { Tokens } from './tokens'
import { PersonLine, RoleChoice } from './person-line'
import { Roles } from './roles'

export function PeoplePage() {
  const people = usePeople()
  const administers = useMay('administer', '*')
  const keeps = useMay('manage')
  return (
    <>
      <Panel
        title="People and robots"
        aside={
          <span className="flex gap-2">
            {administers && (
              <FormSheet title="Add a person" trigger={<Button look="go">Add a person</Button>}>
                {() => <AddPerson robot={false} />}
              </FormSheet>
            )}
            {keeps && (
              <FormSheet title="Add a robot" trigger={<Button>Add a robot</Button>}>
                {() => <AddPerson robot />}
              </FormSheet>
            )}
          </span>
        }
      >
        <Loaded query={people}>
          {(list) => (
            <ul>
              {list.items.map((p) => (
                <PersonLine key={p.name} person={p} administers={administers} />
              ))}
            </ul>
          )}
        </Loaded>
      </Panel>
      <Roles administers={administers} />
    </>
  )
}

function AddPerson({ robot }: { robot: boolean }) {
  const add = useAddPerson()
  const [name, setName] = useState('')
  const [email, setEmail] = useState('')
  const [role, setRole] = useState(robot ? 'author' : '')
  const [project, setProject] = useState('')
  if (add.data?.link)
    return (
      <ShownOnce
        what={`${add.data.name} was added. Give them this link; it lets them in once, within 7 days, to choose a password.`}
        secret={add.data.link}
      />
    )
  if (add.data) return <Tokens robot={add.data.name} />
  return (
    <Form
      submit="Add"
      pending={add.isPending}
      error={add.error}
      onSubmit={() =>
        add.mutate({
          name: name.trim(),
          email: email.trim() || undefined,
          robot: robot || undefined,
          memberships: role && project ? [{ role, project }] : undefined,
        })
      }
    >
      <TextField
        label="Name, in small letters"
        name="name"
        autoCapitalize="none"
        required
        value={name}
        onChange={setName}
      />
      {!robot && (
        <TextField
          label="E-mail, for notices and for sign-in by the provider; may stay empty"
          type="email"
          name="email"
          value={email}
          onChange={setEmail}
        />
      )}
      <RoleChoice role={role} project={project} onRole={setRole} onProject={setProject} />
    </Form>
  )
}
