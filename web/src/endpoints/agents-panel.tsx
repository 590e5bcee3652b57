import { useAgents } from '../api/keeping'
import { bytes, count } from '../ui/format'
import { Ago, Empty, Loaded, Panel } from '../ui/parts'
import { TableHead } from '../ui/table-head'

/** Who reports what answers where the gateway does not reach, when each was heard last, and what waits there. */
export function AgentsPanel({ endpoint }: { endpoint: string }) {
  const agents = useAgents(endpoint)
  return (
    <Panel title="Who reports what answers elsewhere">
      <Loaded query={agents}>
        {(a) =>
          a.items.length === 0 ? (
            <Empty command={`innerladder agent ${endpoint} FILE`}>
              Its version answers where the gateway does not reach, and nobody has reported yet. Start an agent beside
              it:
            </Empty>
          ) : (
            <table className="w-full text-[13px]">
              <TableHead columns={['agent', 'heard', 'told until', 'requests', 'waiting there', 'lines put aside']} />
              <tbody>
                {a.items.map((i) => (
                  <tr key={i.id} className="border-line border-t *:py-1 *:pr-3" data-agent={i.name}>
                    <td className="max-w-52 truncate" title={i.id}>
                      {i.name}
                    </td>
                    <td>
                      <Ago at={i.heard_at} />
                    </td>
                    <td className="text-ink-2">{Date.parse(i.until) > 0 ? <Ago at={i.until} /> : '–'}</td>
                    <td>{count(i.requests)}</td>
                    <td>{bytes(i.waiting)}</td>
                    <td className={i.aside > 0 ? 'text-bad font-semibold' : undefined}>{count(i.aside)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }
      </Loaded>
    </Panel>
  )
}
