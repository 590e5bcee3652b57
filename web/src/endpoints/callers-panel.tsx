import { KeyRound } from 'lucide-react'
import { useState } from 'react'

import type { Endpoint } from '../api/client'
import { useAddCaller, useCallers, useRemoveCaller, useSetKeyed } from '../api/keeping'
import { Form, FormSheet } from '../ui/form'
import { Ago, Button, Empty, LinkButton, Loaded, Panel, Problem, TextField } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { Calls } from './calls'

/** Which programs may call the endpoint. */
export function CallersPanel({ endpoint: e }: { endpoint: Endpoint }) {
  const callers = useCallers(e.name)
  const remove = useRemoveCaller(e.name)
  return (
    <Panel
      title="Callers"
      aside={
        <span className="flex gap-2">
          <FormSheet
            title={e.keyed ? `Let anyone call ${e.name}` : `Keys for ${e.name}`}
            trigger={<Button>{e.keyed ? 'Open to anyone' : 'Ask for keys'}</Button>}
          >
            {(done) => <Keyed endpoint={e} done={done} />}
          </FormSheet>
          <FormSheet title={`A key to ${e.name}`} trigger={<Button>Give a key</Button>}>
            {() => <GiveKey endpoint={e.name} />}
          </FormSheet>
        </span>
      }
    >
      <p className="text-ink-2 mb-1 flex items-center gap-1.5">
        {e.keyed && <KeyRound size={14} aria-hidden />}
        {e.keyed
          ? 'It answers only programs that send a key, as Inner-Ladder-Key.'
          : 'It answers anyone who can reach the gateway. The first key that is given changes that.'}
      </p>
      <Loaded query={callers}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty>Nobody has a key.</Empty>
          ) : (
            <ul>
              {list.items.map((c) => (
                <li key={c.name} className="border-line flex justify-between gap-4 border-t py-1.5 first:border-0">
                  <span>
                    {c.name} <span className="text-ink-2">…{c.hint}</span>
                  </span>
                  <span className="text-ink-2 flex gap-3 text-[12.5px]">
                    given by {c.made_by}, <Ago at={c.made_at} />
                    <LinkButton bad onClick={() => remove.mutate(c.name)}>
                      take away
                    </LinkButton>
                  </span>
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
      {remove.error && <Problem error={remove.error} />}
      <Calls endpoint={e.name} />
    </Panel>
  )
}

function GiveKey({ endpoint }: { endpoint: string }) {
  const add = useAddCaller(endpoint)
  const [name, setName] = useState('')
  if (add.data)
    return <ShownOnce what={`The key of ${add.data.name}, to be sent as Inner-Ladder-Key.`} secret={add.data.key} />
  return (
    <Form submit="Give it" pending={add.isPending} error={add.error} onSubmit={() => add.mutate(name.trim())}>
      <TextField label="Which program, in small letters" name="name" required value={name} onChange={setName} />
    </Form>
  )
}

function Keyed({ endpoint: e, done }: { endpoint: Endpoint; done: () => void }) {
  const set = useSetKeyed(e.name)
  const [reason, setReason] = useState('')
  return (
    <Form
      submit={e.keyed ? 'Open it' : 'Ask for keys'}
      pending={set.isPending}
      error={set.error}
      onSubmit={() => set.mutate({ keyed: !e.keyed, reason }, { onSuccess: done })}
    >
      <p>
        {e.keyed
          ? 'Anyone who can reach the gateway may call it from then on.'
          : 'Programs without a key are refused from then on.'}
      </p>
      <TextField label="Why" name="reason" required value={reason} onChange={setReason} />
    </Form>
  )
}
