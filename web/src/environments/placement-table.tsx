import type { Environment, Placement } from '../api/client'
import { useMay } from '../api/people'
import { useUnplace } from '../api/places'
import { FormSheet } from '../ui/form'
import { Ago, Button, LinkButton, Problem, Ref, Tag, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { Addresses, Replicas } from './place-form'

/** What runs in an environment, at which addresses, and how it is. */
export function PlacementTable({ placements, environment }: { placements: Placement[]; environment: Environment }) {
  const unplace = useUnplace(environment.name)
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <TableHead columns={['version', 'addresses', 'served as', 'placed', '']} />
        <tbody>
          {placements.map((p) => (
            <PlacementRow
              key={p.id}
              placement={p}
              environment={environment}
              onUnplace={() => unplace.mutate(p.version)}
            />
          ))}
        </tbody>
      </table>
      {unplace.error && <Problem error={unplace.error} />}
    </div>
  )
}

function PlacementRow({
  placement: p,
  environment,
  onUnplace,
}: {
  placement: Placement
  environment: Environment
  onUnplace: () => void
}) {
  const mayPlace = useMay('place', p.project)
  return (
    <tr className="border-line border-t align-top *:py-1.5 *:pr-4">
      <td>
        <Ref to={p.version} />
      </td>
      <td>
        {p.elsewhere && (
          <>
            <Tag tone="main">elsewhere</Tag>{' '}
            <span className="text-ink-2 text-[12.5px]">
              where the gateway does not reach; agents report what it does
            </span>
          </>
        )}
        {p.runner && (
          <div>
            <Tag tone="main">runs here</Tag>
          </div>
        )}
        {p.addresses.map((a) => (
          <div key={a.url} className="flex flex-wrap items-baseline gap-x-2">
            <code className="text-[13px]">{a.url}</code>
            <Tag tone={a.healthy ? 'main' : 'bad'}>{a.healthy ? 'healthy' : 'unhealthy'}</Tag>
            <span className="text-ink-2 text-[12.5px]">
              {a.reason && `${a.reason}, `}
              <Ago at={a.since} />
            </span>
          </div>
        ))}
        {p.heard && (
          <details className="mt-1 text-[13px]">
            <summary className="text-ink-2 cursor-pointer">what it answered to the sample request</summary>
            <pre className="bg-paper border-line mt-1 max-w-[70ch] overflow-x-auto rounded-md border p-2">
              {JSON.stringify(p.heard.outputs, null, 1)}
            </pre>
          </details>
        )}
      </td>
      <td>{p.elsewhere ? '–' : p.served_as}</td>
      <td className="text-ink-2 text-[12.5px] whitespace-nowrap">
        <Ago at={p.placed_at} /> by {p.placed_by}
      </td>
      <td className="text-right whitespace-nowrap">
        {!p.elsewhere && <To to={`/try/${p.environment}/${encodeURIComponent(p.version)}`}>try</To>}{' '}
        {mayPlace && (
          <>
            {p.runner && (
              <FormSheet
                title={`Replicas of ${p.version} in ${environment.name}`}
                trigger={<Button className="px-2! py-0.5! text-[12.5px]">Replicas</Button>}
              >
                {(done) => <Replicas placement={p} done={done} />}
              </FormSheet>
            )}
            {!p.elsewhere && !p.runner && (
              <FormSheet
                title={`Addresses of ${p.version} in ${environment.name}`}
                trigger={<Button className="px-2! py-0.5! text-[12.5px]">Addresses</Button>}
              >
                {(done) => <Addresses placement={p} done={done} />}
              </FormSheet>
            )}{' '}
            <LinkButton bad onClick={onUnplace}>
              unplace
            </LinkButton>
          </>
        )}
      </td>
    </tr>
  )
}
