import { useState } from 'react'
import { useAddProject, useEditProject, useRemoveProject, useRotateKey } from '../api/keeping'
import { useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Button, Empty, Facts, Loaded, Panel, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'
import { RetentionPanel } from './retention'

export function ServicePage() {
  const projects = useProjects()
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel
          title="Projects"
          aside={
            <FormSheet title="Add a project" trigger={<Button>Add a project</Button>}>
              {(done) => <AddProject done={done} />}
            </FormSheet>
          }
        >
          <Loaded query={projects}>
            {(list) => (
              <Facts
                empty="There are none."
                rows={list.items.map(
                  (p) =>
                    [
                      p.name,
                      <span key={p.name}>
                        {p.description}
                        {p.description && ', '}
                        {p.models === 1 ? '1 model' : `${p.models} models`}{' '}
                        <FormSheet
                          title={`The project ${p.name}`}
                          trigger={<Button className="ml-2 px-2! py-0! text-[12.5px]">Change</Button>}
                        >
                          {(done) => <EditProject name={p.name} description={p.description} done={done} />}
                        </FormSheet>
                      </span>,
                    ] as const,
                )}
              />
            )}
          </Loaded>
        </Panel>
        <RetentionPanel />
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel
          title="Sealing key"
          aside={
            <FormSheet title="A new sealing key" trigger={<Button>Rotate</Button>}>
              {() => <Rotate />}
            </FormSheet>
          }
        >
          <p className="text-ink-2">
            Secrets are sealed with a key that lies in a file of its own, which is in no backup. Keep a copy of it
            apart: without it a restored service does not start.
          </p>
        </Panel>
        <Panel
          title="Backup"
          aside={
            <a href="/api/v1/backup">
              <Button tabIndex={-1}>Download a backup</Button>
            </a>
          }
        >
          <p className="text-ink-2">
            Everything that is kept, as it is at one moment, in one file; the service goes on meanwhile.
          </p>
          <Empty command="innerladder restore BACKUP.tar -data NEW-DIR -key-file KEY">It is put back with:</Empty>
        </Panel>
      </div>
    </>
  )
}

function AddProject({ done }: { done: () => void }) {
  const add = useAddProject()
  const [name, setName] = useState('')
  const [description, setDescription] = useState('')
  return (
    <Form
      submit="Add"
      pending={add.isPending}
      error={add.error}
      onSubmit={() => add.mutate({ name: name.trim(), description }, { onSuccess: done })}
    >
      <TextField label="Name, in small letters" name="name" required value={name} onChange={setName} />
      <TextField label="Whose, and what for" value={description} onChange={setDescription} />
    </Form>
  )
}

function EditProject({ name, description, done }: { name: string; description: string; done: () => void }) {
  const edit = useEditProject(name)
  const [text, setText] = useState(description)
  return (
    <div className="grid gap-6">
      <Form
        submit="Save it"
        pending={edit.isPending}
        error={edit.error}
        onSubmit={() => edit.mutate(text, { onSuccess: done })}
      >
        <TextField label="Whose, and what for" value={text} onChange={setText} />
      </Form>
      <Removal name={name} question="Why should it go? It must be empty" removal={useRemoveProject(name)} done={done} />
    </div>
  )
}

function Rotate() {
  const rotate = useRotateKey()
  const [reason, setReason] = useState('')
  if (rotate.data)
    return (
      <p>{rotate.data.secrets} secrets are sealed with a new key. Backups from before need the key file from before.</p>
    )
  return (
    <Form submit="Rotate" pending={rotate.isPending} error={rotate.error} onSubmit={() => rotate.mutate(reason)}>
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}
