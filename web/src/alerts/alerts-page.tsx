import { CircleCheck, DatabaseZap, Eye, OctagonX, PlugZap } from 'lucide-react'
import { useState } from 'react'

import type { Alert } from '../api/client'
import { useAlerts, useEndpoint, useHandleAlert } from '../api/queries'
import { ActivityFold } from '../activity/activity-list'
import { useMay } from '../api/people'
import { BackSheet } from '../endpoints/go-back'
import { signalText, words } from '../ui/format'
import { Switchboard } from '../ui/overlays'
import { AlertPicture } from './alert-picture'
import { MuteSheet } from '../watches/mute-form'
import { Ago, Button, Empty, inputLook, Loaded, PageHead, Panel, Problem, Ref, Tag, To } from '../ui/parts'

const states = ['open', 'acknowledged', 'resolved', 'all'] as const

export function AlertsPage() {
  const [state, setState] = useState<(typeof states)[number]>('all')
  const alerts = useAlerts(state === 'all' ? undefined : state)
  return (
    <>
      <PageHead
        title="Alerts"
        sub={
          <>
            what guards, watches and health checks raised, newest first · <To to="/incidents">all incidents</To>
          </>
        }
      >
        <Switchboard label="State" value={state} options={[...states]} onChange={(s) => setState(s as typeof state)} />
      </PageHead>
      <Loaded query={alerts}>
        {(list) =>
          list.items.length === 0 ? (
            <Panel>
              <Empty>
                {state === 'all' ? 'Nothing was ever wrong.' : `No alert is ${state}.`} Guards watch over every trial
                lane, watches over every endpoint, health checks over every placement.
              </Empty>
            </Panel>
          ) : (
            list.items.map((a) => <AlertCard key={a.id} alert={a} />)
          )
        }
      </Loaded>
    </>
  )
}

/** The way back from the split in force, for whoever may take it. */
function WayBack({ endpoint, project }: { endpoint: string; project: string }) {
  const may = useMay('route', project)
  const e = useEndpoint(endpoint).data
  return may && e?.split && e.split.number > 1 ? <BackSheet endpoint={e} /> : null
}

const tones = { open: 'bad', acknowledged: 'trial', resolved: 'main' } as const

function AlertCard({ alert: a }: { alert: Alert }) {
  const handle = useHandleAlert(a.id)
  const may = useMay('handle', a.project)
  const [note, setNote] = useState('')
  const Icon = a.kind === 'rolled_back' ? OctagonX : a.endpoint === '' ? DatabaseZap : PlugZap
  return (
    <Panel
      className={a.state === 'open' ? 'border-l-bad border-l-[3px]' : undefined}
      title={
        <span className="text-ink inline-flex flex-wrap items-center gap-2 text-[15px]">
          <Icon size={16} aria-hidden className={a.state === 'resolved' ? 'text-ink-3' : 'text-bad'} />
          {a.id} {words(a.kind)} <Tag tone={tones[a.state]}>{a.state}</Tag>
        </span>
      }
      aside={
        <span className="text-ink-2 text-[12.5px]">
          {a.endpoint === '' ? (
            'the service itself'
          ) : (
            <>
              <To to={`/endpoints/${a.endpoint}`}>{a.endpoint}</To> ·{' '}
              {a.kind === 'watch_fired' ? words(a.subject) : <Ref to={a.subject} />}
            </>
          )}{' '}
          {a.signal && a.signal !== a.subject && `· ${signalText(a.signal)} `}· <Ago at={a.raised_at} />
        </span>
      }
    >
      <p className="max-w-[92ch]">
        {a.sentence}{' '}
        {a.kind === 'watch_fired' && (
          <>
            <To to={`/endpoints/${a.endpoint}/requests?which=in+trouble`}>Its requests</To>.{' '}
          </>
        )}
        {a.incident && (
          <>
            All about it: <To to={`/incidents/${a.incident}`}>{a.incident}</To>.{' '}
          </>
        )}
        {a.runbook && (
          <>
            What to do:{' '}
            <a className="text-main underline" href={a.runbook} rel="noreferrer">
              runbook
            </a>
            .{' '}
          </>
        )}
        {a.owner && `Its owner is ${a.owner}.`}
      </p>
      {a.state !== 'resolved' && <AlertPicture alert={a} />}
      {a.handled_at && (
        <p className="text-ink-2 mt-1.5">
          {a.state} by {a.handled_by}, <Ago at={a.handled_at} />
          {a.note && ` “${a.note}”`}
        </p>
      )}
      {a.state !== 'resolved' && may && (
        <form className="mt-3 flex flex-wrap items-center gap-2" onSubmit={(event) => event.preventDefault()}>
          <input
            className={`${inputLook} max-w-80`}
            aria-label="Note"
            placeholder="a note for the record"
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
          {a.state === 'open' && (
            <Button onClick={() => handle.mutate({ state: 'acknowledged', note })}>
              <Eye size={14} /> Acknowledge
            </Button>
          )}
          <Button look="go" onClick={() => handle.mutate({ state: 'resolved', note })}>
            <CircleCheck size={14} /> Resolve
          </Button>
          {a.kind === 'watch_fired' && <MuteSheet endpoint={a.endpoint} subjects={[a.subject, 'all']} />}
          {a.kind === 'watch_fired' && <WayBack endpoint={a.endpoint} project={a.project} />}
        </form>
      )}
      {handle.error && (
        <div className="mt-2">
          <Problem error={handle.error} />
        </div>
      )}
      <ActivityFold subject={a.id} />
    </Panel>
  )
}
