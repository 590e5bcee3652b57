import { Bot, Plus, UserRound, X } from 'lucide-react'
import { useState } from 'react'

import type { Person } from '../api/client'
import {
  useAddPerson,
  useEditPerson,
  useGiveRole,
  useInvite,
  useMay,
  usePeople,
  usePermissions,
  usePutRole,
  useRoles,
  useTakeRole,
} from '../api/people'
import { useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Field, inputLook, Loaded, Panel, Problem, Tag } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { Checks } from './checks'
import { Tokens } from './tokens'

const projectText = (project: string) => (project === '*' ? 'all projects' : project)

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

function PersonLine({ person: p, administers }: { person: Person; administers: boolean }) {
  const keeps = useMay('manage')
  const take = useTakeRole(p.name)
  const edit = useEditPerson(p.name)
  const Icon = p.robot ? Bot : UserRound
  const problem = take.error ?? edit.error
  return (
    <li className="border-line grid gap-x-4 gap-y-1 border-t py-2 first:border-0 md:grid-cols-[180px_minmax(0,1fr)_auto]">
      <span className="flex items-baseline gap-2">
        <Icon size={15} className="text-ink-3 self-center" aria-label={p.robot ? 'robot' : 'person'} />
        <span>
          <b className="font-medium">{p.name}</b> {p.disabled_at && <Tag tone="bad">shut out</Tag>}
          {p.email && <span className="text-ink-2 block text-[12.5px]">{p.email}</span>}
        </span>
      </span>
      <span className="flex flex-wrap items-center gap-1.5">
        {p.memberships.map((m) => (
          <span
            key={m.project + m.role}
            className="border-line-strong inline-flex items-center gap-1 rounded-full border px-2 text-[12.5px]"
          >
            {m.role} of {projectText(m.project)}
            {keeps && (
              <button
                type="button"
                className="hover:text-bad cursor-pointer"
                aria-label={`Take ${m.role} of ${projectText(m.project)} from ${p.name}`}
                onClick={() => take.mutate(m)}
              >
                <X size={12} />
              </button>
            )}
          </span>
        ))}
        {keeps && (
          <FormSheet
            title={`A role for ${p.name}`}
            trigger={
              <button
                type="button"
                className="text-ink-2 hover:text-ink inline-flex cursor-pointer items-center gap-0.5 text-[12.5px]"
                aria-label={`Give ${p.name} a role`}
              >
                <Plus size={13} /> role
              </button>
            }
          >
            {(done) => <GiveRole person={p.name} done={done} />}
          </FormSheet>
        )}
        {problem && <Problem error={problem} />}
      </span>
      <span className="text-ink-2 flex items-center gap-2 text-[12.5px]">
        added by {p.added_by}, <Ago at={p.added_at} />
        {administers && !p.robot && !p.disabled_at && (
          <FormSheet title={`A new link for ${p.name}`} trigger={<Button>Link</Button>}>
            {() => <NewLink person={p.name} />}
          </FormSheet>
        )}
        {keeps && p.robot && (
          <FormSheet title={`Tokens of ${p.name}`} trigger={<Button>Tokens</Button>}>
            {() => <Tokens robot={p.name} />}
          </FormSheet>
        )}
        {administers && (
          <Button onClick={() => edit.mutate({ disabled: !p.disabled_at })}>
            {p.disabled_at ? 'Let in' : 'Shut out'}
          </Button>
        )}
      </span>
    </li>
  )
}

function RoleChoice({
  role,
  project,
  onRole,
  onProject,
}: {
  role: string
  project: string
  onRole: (r: string) => void
  onProject: (p: string) => void
}) {
  const roles = useRoles().data?.items ?? []
  const projects = useProjects().data?.items ?? []
  const everything = useMay('manage', '*')
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Choice
        label="Role"
        value={role}
        options={roles.map((r) => ({ value: r.name, text: r.name }))}
        onChange={onRole}
      />{' '}
      of
      <Choice
        label="Project"
        value={project}
        options={[
          ...(everything ? [{ value: '*', text: 'all projects' }] : []),
          ...projects.map((p) => ({ value: p.name, text: p.name })),
        ]}
        onChange={onProject}
      />
      {role && (
        <span className="text-ink-2 w-full text-[12.5px]">
          {roles.find((r) => r.name === role)?.permissions.join(', ')}
        </span>
      )}
    </div>
  )
}

function GiveRole({ person, done }: { person: string; done: () => void }) {
  const give = useGiveRole(person)
  const [role, setRole] = useState('')
  const [project, setProject] = useState('')
  return (
    <Form
      submit="Give it"
      pending={give.isPending || !role || !project}
      error={give.error}
      onSubmit={() => give.mutate({ role, project }, { onSuccess: done })}
    >
      <RoleChoice role={role} project={project} onRole={setRole} onProject={setProject} />
    </Form>
  )
}

function NewLink({ person }: { person: string }) {
  const invite = useInvite()
  if (invite.data?.link)
    return (
      <ShownOnce
        what={`Give ${person} this link; it lets them in once, within 7 days, to choose a password.`}
        secret={invite.data.link}
      />
    )
  return (
    <Form submit="Make the link" pending={invite.isPending} error={invite.error} onSubmit={() => invite.mutate(person)}>
      <p>For someone who has not come in yet, or has lost the password. An earlier link ends.</p>
    </Form>
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
      <Field label="Name, in small letters">
        <input
          className={inputLook}
          name="name"
          autoCapitalize="none"
          required
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </Field>
      {!robot && (
        <Field label="E-mail, for notices and for sign-in by the provider; may stay empty">
          <input
            className={inputLook}
            type="email"
            name="email"
            value={email}
            onChange={(event) => setEmail(event.target.value)}
          />
        </Field>
      )}
      <RoleChoice role={role} project={project} onRole={setRole} onProject={setProject} />
    </Form>
  )
}

function Roles({ administers }: { administers: boolean }) {
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
                className="border-line grid gap-x-4 border-t py-1.5 first:border-0 md:grid-cols-[140px_minmax(0,1fr)_minmax(0,1fr)]"
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
      <Field label="Name, in small letters">
        <input
          className={inputLook}
          name="role"
          autoCapitalize="none"
          required
          value={role}
          onChange={(event) => setRole(event.target.value)}
        />
      </Field>
      <Field label="What it is for">
        <input className={inputLook} value={description} onChange={(event) => setDescription(event.target.value)} />
      </Field>
      <Checks
        legend="It may"
        options={permissions.map((p) => ({ value: p.name, text: p.name, what: p.what }))}
        chosen={chosen}
        onChange={setChosen}
      />
    </Form>
  )
}
