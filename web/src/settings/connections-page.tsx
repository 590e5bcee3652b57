import { useState } from 'react'
import { useAddWebhook, useWebhooks } from '../api/keeping'
import { useMay } from '../api/people'
import { useProjects } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { itemsIn } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button, Empty, Loaded, Panel, TextField } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { WebhookView } from './webhook-view'
import { MailPanel } from './mail'

export function ConnectionsPage() {
  const webhooks = useWebhooks()
  const administers = useMay('administer', '*')
  return (
    <>
      <Panel
        title="Webhooks"
        aside={
          <FormSheet title="Add a webhook" trigger={<Button>Add a webhook</Button>}>
            {() => <AddWebhook />}
          </FormSheet>
        }
      >
        <p className="text-ink-2 mb-2">What happens is sent as CloudEvents, signed, and tried again for about a day.</p>
        <Loaded query={webhooks}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command="innerladder webhook add https://… -project forecasting -kind split -kind alert">
                Nothing is told yet.
              </Empty>
            ) : (
              <div className="grid gap-4">
                {list.items.map((w) => (
                  <WebhookView key={w.id} webhook={w} />
                ))}
              </div>
            )
          }
        </Loaded>
      </Panel>
      {administers && <MailPanel />}
    </>
  )
}

function AddWebhook() {
  const add = useAddWebhook()
  const projects = useProjects().data?.items ?? []
  const everything = useMay('manage', '*')
  const [address, setAddress] = useState('')
  const [project, setProject] = useState('')
  const [kinds, setKinds] = useState('')
  if (add.data)
    return (
      <ShownOnce
        what="What is sent is signed with this secret, as the Standard Webhooks specification says."
        secret={add.data.secret}
      />
    )
  return (
    <Form
      submit="Add"
      pending={add.isPending || !project}
      error={add.error}
      onSubmit={() => add.mutate({ address: address.trim(), project, kinds: itemsIn(kinds) })}
    >
      <TextField
        label="Address"
        name="address"
        type="url"
        placeholder="https://"
        required
        value={address}
        onChange={setAddress}
      />
      <div className="flex items-center gap-2">
        of what happens in
        <Choice
          label="Project"
          value={project}
          options={[
            ...(everything ? [{ value: '*', text: 'all projects' }] : []),
            ...projects.map((p) => ({ value: p.name, text: p.name })),
          ]}
          onChange={setProject}
        />
      </div>
      <TextField
        label="Kinds, such as split or alert.raised; everything when empty"
        name="kinds"
        value={kinds}
        onChange={setKinds}
      />
    </Form>
  )
}
