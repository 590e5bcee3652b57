import { useIncidents, type Incident } from '../api/incidents'
import { short } from '../ui/format'
import { Ago, Empty, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { titleOf } from './words'

export function IncidentsPage() {
  return (
    <>
      <PageHead title="Incidents" sub="every rollback with its page, newest first" />
      <Panel>
        <IncidentList />
      </Panel>
    </>
  )
}

/** Incidents, newest first; of one endpoint when it is named. */
export function IncidentList({ endpoint }: { endpoint?: string }) {
  const incidents = useIncidents({ endpoint })
  return (
    <Loaded query={incidents}>
      {(list) =>
        list.items.length === 0 ? (
          <Empty>Nothing was ever rolled back. When it is, the service writes a page about it.</Empty>
        ) : (
          <ol>
            {list.items.map((i) => (
              <IncidentRow key={i.id} incident={i} named={endpoint === undefined} />
            ))}
          </ol>
        )
      }
    </Loaded>
  )
}

function IncidentRow({ incident: i, named }: { incident: Incident; named: boolean }) {
  return (
    <li className="border-line flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t py-2 first:border-0">
      <span className="w-12">
        <To to={`/incidents/${i.id}`}>{i.id}</To>
      </span>
      {named && <To to={`/endpoints/${i.endpoint}`}>{i.endpoint}</To>}
      <span>
        <Ref to={i.candidate}>{short(i.candidate)}</Ref> {titleOf(i)}
      </span>
      <Tag tone={i.state === 'open' ? 'bad' : 'quiet'}>{i.state}</Tag>
      {i.cause && <span className="text-ink-2">cause: {i.cause}</span>}
      <span className="text-ink-2 ml-auto">
        {i.by}, <Ago at={i.at} />
      </span>
    </li>
  )
}
