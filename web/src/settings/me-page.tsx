import { useState } from 'react'

import {
  useChangePassword,
  useEndOtherSessions,
  useMe,
  usePreferences,
  useSessions,
  useSetPreferences,
} from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { Ago, Button, Facts, Loaded, Panel, Problem, TextField } from '../ui/parts'
import { NewPassword } from '../session/new-password'
import { OwnProject } from './own-project'
import { Tokens } from './tokens'

export function MePage() {
  const me = useMe().data
  if (!me) return null
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title={`You are ${me.name}`}>
          <Facts
            empty="You have no role yet and see nothing. Ask an owner for one."
            rows={[
              ...(me.email ? ([['e-mail', me.email]] as const) : []),
              ...me.memberships.map(
                (m) =>
                  [
                    m.project === '*' ? 'all projects' : m.project,
                    `${m.role}: ${(me.may[m.project] ?? []).join(', ')}`,
                  ] as const,
              ),
            ]}
          />
          <OwnProject chosen={me.project ?? ''} />
        </Panel>
        <Panel title="What reaches you">
          <Preferences />
        </Panel>
      </div>
      <Panel title="Tokens">
        <Tokens />
      </Panel>
      <Panel
        title="Where you are signed in"
        aside={
          <FormSheet title="Another password" trigger={<Button>Change the password</Button>}>
            {(done) => <Password done={done} />}
          </FormSheet>
        }
      >
        <Sessions />
      </Panel>
    </>
  )
}

function Preferences() {
  const preferences = usePreferences()
  const set = useSetPreferences()
  return (
    <Loaded query={preferences}>
      {(p) => {
        const has = (topic: string, channel: string) =>
          (p.choices as Record<string, string[]>)[topic]?.includes(channel) ?? false
        const turn = (topic: string, channel: string, on: boolean) => {
          const all = { ...(p.choices as Record<string, string[]>) }
          all[topic] = on ? [...(all[topic] ?? []), channel] : (all[topic] ?? []).filter((c) => c !== channel)
          set.mutate(all)
        }
        return (
          <>
            <table className="w-full border-collapse" aria-label="What reaches you">
              <thead>
                <tr className="text-ink-3 text-[12px]">
                  <th className="text-left font-normal">when</th>
                  <th className="w-16 font-normal">inbox</th>
                  <th className="w-16 font-normal">e-mail</th>
                </tr>
              </thead>
              <tbody>
                {p.topics.map((t) => (
                  <tr key={t.topic} className="border-line border-t">
                    <td className="py-1.5">{t.what}</td>
                    {['inbox', 'mail'].map((channel) => (
                      <td key={channel} className="text-center">
                        <input
                          type="checkbox"
                          aria-label={`${t.topic} by ${channel}`}
                          checked={has(t.topic, channel)}
                          disabled={channel === 'mail' && (!p.mail || !p.email)}
                          onChange={(event) => turn(t.topic, channel, event.target.checked)}
                        />
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {(!p.mail || !p.email) && (
              <p className="text-ink-2 mt-2 text-[12.5px]">
                {p.mail
                  ? 'No e-mail address of yours is known; an owner can add one.'
                  : 'The service sends no e-mail until its mail server is set.'}
              </p>
            )}
            {set.error && <Problem error={set.error} />}
          </>
        )
      }}
    </Loaded>
  )
}

function Sessions() {
  const sessions = useSessions()
  const end = useEndOtherSessions()
  return (
    <Loaded query={sessions}>
      {(list) => (
        <>
          <ul>
            {list.items.map((s) => (
              <li
                key={s.id}
                className="border-line flex flex-wrap justify-between gap-x-4 border-t py-1.5 first:border-0"
              >
                <span className="min-w-0 truncate">
                  {s.address || 'here'} <span className="text-ink-2">{s.agent}</span>
                </span>
                <span className="text-ink-2 text-[12.5px]">
                  by {s.how}, <Ago at={s.made_at} />
                </span>
              </li>
            ))}
          </ul>
          {list.items.length > 1 && (
            <div className="mt-2">
              <Button onClick={() => end.mutate()}>Sign out everywhere else</Button>
            </div>
          )}
        </>
      )}
    </Loaded>
  )
}

function Password({ done }: { done: () => void }) {
  const change = useChangePassword()
  const has = useMe().data?.has_password ?? true
  const [old, setOld] = useState('')
  const [chosen, setChosen] = useState({ password: '', again: '' })
  const [tokens, setTokens] = useState(false)
  const differ = chosen.password !== chosen.again
  return (
    <Form
      submit="Change it"
      pending={change.isPending}
      error={change.error}
      onSubmit={() =>
        !differ && change.mutate({ old, password: chosen.password, end_tokens: tokens }, { onSuccess: done })
      }
    >
      {has && (
        <TextField
          label="Present password"
          type="password"
          name="old"
          autoComplete="current-password"
          required
          value={old}
          onChange={setOld}
        />
      )}
      <NewPassword chosen={chosen} onChange={setChosen} />
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={tokens} onChange={(event) => setTokens(event.target.checked)} />
        Take away my tokens, too
      </label>
      <p className="text-ink-2 text-[12.5px]">
        You are signed out everywhere else.{' '}
        {tokens ? 'Whatever uses a token of yours must get another.' : 'Tokens stay valid.'}
      </p>
    </Form>
  )
}
