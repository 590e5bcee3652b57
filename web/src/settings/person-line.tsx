import { Bot, Plus, UserRound, X } from 'lucide-react'
import { useState } from 'react'
import type { Person } from '../api/client'
import { useEditPerson, useGiveRole, useInvite, useMay, useRoles, useTakeRole } from '../api/people'
import { useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Problem, Tag } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { Tokens } from './tokens'
import { classes } from '../ui/classes'

const projectText = (project: string) => (project === '*' ? 'all projects' : project)

export function PersonLine({ person: p, administers }: { person: Person; administers: boolean }) {
  const keeps = useMay('manage')
  const take = useTakeRole(p.name)
  const edit = useEditPerson(p.name)
  const Icon = p.robot ? Bot : UserRound
  const problem = take.error ?? edit.error
  return (
    <li
      className={classes(
        'border-line grid gap-x-4 gap-y-1 border-t py-2 first:border-0',
        'md:grid-cols-[180px_minmax(0,1fr)_auto]',
      )}
    >
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

export function RoleChoice({
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
