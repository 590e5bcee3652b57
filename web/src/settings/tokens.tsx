import { useState } from 'react'

import { useEndToken, useMakeToken, useMe, usePermissions, useTokens, type Permission } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, LinkButton, Loaded, Problem, TextField } from '../ui/parts'
import { ShownOnce } from '../ui/shown-once'
import { TableHead } from '../ui/table-head'
import { Checks } from './checks'

const lasting = { '168h': 'a week', '720h': '30 days', '2160h': '90 days', '8784h': 'a year' } as const

/** The tokens of whoever is signed in, or of a robot that they keep. */
export function Tokens({ robot }: { robot?: string }) {
  const tokens = useTokens(robot)
  const end = useEndToken()
  return (
    <div className="grid gap-3">
      <Loaded query={tokens}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty>
              {robot
                ? `${robot} has no token yet.`
                : 'You have no tokens. Programs and the command line use them instead of your password.'}
            </Empty>
          ) : (
            <div className="overflow-x-auto">
              <table className="w-full border-collapse" aria-label="Tokens">
                <TableHead columns={['for', 'ends in', 'may', 'in', 'expires', 'last used', '']} />
                <tbody>
                  {list.items.map((t) => (
                    <tr key={t.id} className="border-line border-t">
                      <td className="py-1.5 pr-3">{t.title}</td>
                      <td className="pr-3">…{t.hint}</td>
                      <td className="pr-3">{t.scope.permissions?.join(', ') ?? 'all'}</td>
                      <td className="pr-3">{t.scope.projects?.join(', ') ?? 'all'}</td>
                      <td className="pr-3 whitespace-nowrap">{t.expires_at.slice(0, 10)}</td>
                      <td className="pr-3">{t.used_at ? <Ago at={t.used_at} /> : 'never'}</td>
                      <td className="text-right">
                        <LinkButton bad onClick={() => end.mutate(t.id)}>
                          take away
                        </LinkButton>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
      {end.error && <Problem error={end.error} />}
      <div>
        <FormSheet
          title={robot ? `A token for ${robot}` : 'A token for yourself'}
          trigger={<Button>Make a token</Button>}
        >
          {() => <MakeToken robot={robot} />}
        </FormSheet>
      </div>
    </div>
  )
}

function MakeToken({ robot }: { robot?: string }) {
  const make = useMakeToken()
  const permissions = usePermissions().data ?? []
  const projects = Object.keys(useMe().data?.may ?? {}).filter((p) => p !== '*')
  const [title, setTitle] = useState('')
  const [lasts, setLasts] = useState<string>('2160h')
  const [may, setMay] = useState<Permission[]>([])
  const [within, setWithin] = useState<string[]>([])
  if (make.data)
    return <ShownOnce what={`The token for ${make.data.owner}, ${make.data.title}.`} secret={make.data.token} />
  return (
    <Form
      submit="Make it"
      pending={make.isPending}
      error={make.error}
      onSubmit={() =>
        make.mutate({
          title,
          lasts,
          robot,
          permissions: may.length ? may : undefined,
          projects: within.length ? within : undefined,
        })
      }
    >
      <TextField label="What it is for" required value={title} onChange={setTitle} />
      <div className="flex items-center gap-2">
        It holds for{' '}
        <Choice
          label="How long"
          value={lasts}
          options={Object.entries(lasting).map(([value, text]) => ({ value, text }))}
          onChange={setLasts}
        />
      </div>
      <Checks
        legend="Narrowed down to some permissions; all of them when none is chosen"
        options={permissions.map((p) => ({ value: p.name, text: p.name, what: p.what }))}
        chosen={may}
        onChange={setMay}
      />
      {projects.length > 1 && !robot && (
        <Checks
          legend="Narrowed down to some projects"
          options={projects.map((p) => ({ value: p, text: p }))}
          chosen={within}
          onChange={setWithin}
        />
      )}
    </Form>
  )
}
