import { useState } from 'react'
import { useParams } from 'react-router'

import type { CustomSignal } from '../api/client'
import { useCustomSignals } from '../api/custom'
import { useMay } from '../api/people'
import { useEndpoint } from '../api/queries'
import { count, number } from '../ui/format'
import { FormSheet } from '../ui/form'
import { Button, Empty, LinkButton, Loaded, PageHead, Panel, Ref, To } from '../ui/parts'
import { SpanSwitch } from '../ui/span-switch'
import { windows, type Span } from '../ui/spans'
import { TableHead } from '../ui/table-head'
import { CustomFigure } from './custom-figure'
import { CustomForm } from './custom-form'

/** What a team reports of its own about the answers of an endpoint, such as what they cost. */
export function CustomPage() {
  const { endpoint = '' } = useParams()
  const [span, setSpan] = useState<Span>('6 h')
  const signals = useCustomSignals(endpoint, windows[span])
  const mayRoute = useMay('route', useEndpoint(endpoint).data?.project ?? '')
  return (
    <>
      <PageHead
        title={`Custom signals of ${endpoint}`}
        sub={
          <>
            numbers that callers and jobs report of what <To to={`/endpoints/${endpoint}`}>{endpoint}</To> answered, by
            the time of the answer; guards and watches can name them
          </>
        }
      >
        <SpanSwitch value={span} least="1 h" most="30 days" onChange={setSpan} />
        {mayRoute && (
          <FormSheet title={`Another signal of ${endpoint}`} trigger={<Button look="go">Add a signal</Button>}>
            {(done) => <CustomForm endpoint={endpoint} done={done} />}
          </FormSheet>
        )}
      </PageHead>
      <Loaded query={signals}>
        {(s) =>
          s.items.length === 0 ? (
            <Panel>
              <Empty command={`innerladder custom set ${endpoint} dispatch_cost -better lower -unit EUR`}>
                {endpoint} has no signals of its own. Say what one is, and report its values with the ids of requests:
              </Empty>
            </Panel>
          ) : (
            <>
              {s.items.map((c) => (
                <One key={c.name} endpoint={endpoint} of={c} stepMs={s.step_ms} mayRoute={mayRoute} />
              ))}
            </>
          )
        }
      </Loaded>
    </>
  )
}

/** One signal: what it is, what each version has of it, and over time. */
function One({
  endpoint,
  of: c,
  stepMs,
  mayRoute,
}: {
  endpoint: string
  of: CustomSignal
  stepMs: number
  mayRoute: boolean
}) {
  return (
    <Panel
      title={
        <span>
          {c.name}{' '}
          <span className="text-ink-2 font-normal">
            {c.unit && `${c.unit}, `}
            {c.better} is better
          </span>
        </span>
      }
      aside={
        mayRoute && (
          <FormSheet title={`${c.name} of ${endpoint}`} trigger={<LinkButton onClick={() => {}}>change</LinkButton>}>
            {(done) => <CustomForm endpoint={endpoint} of={c} done={done} />}
          </FormSheet>
        )
      }
    >
      {c.about && <p className="text-ink-2 mb-2 max-w-[80ch]">{c.about}</p>}
      {c.versions.length === 0 ? (
        <Empty command={`innerladder report ${endpoint} values.csv`}>
          Nothing was reported of answers in that time. Send a file with the columns request and {c.name}:
        </Empty>
      ) : (
        <>
          <Versions of={c} />
          <div className="mt-4">
            <CustomFigure of={c} stepMs={stepMs} />
          </div>
        </>
      )}
    </Panel>
  )
}

function Versions({ of: c }: { of: CustomSignal }) {
  return (
    <table className="w-full text-[13px]">
      <TableHead
        columns={['version', `mean${c.unit ? `, ${c.unit}` : ''}`, '95 %', 'sum', 'p10', 'p50', 'p90', 'of']}
      />
      <tbody>
        {c.versions.map((v) => (
          <tr key={v.version} className="border-line border-t *:py-1 *:pr-3" data-version={v.version}>
            <td>
              <Ref to={v.version} />
            </td>
            <td className="font-semibold">{number(v.mean)}</td>
            <td>{v.low === undefined || v.high === undefined ? '–' : `${number(v.low)} … ${number(v.high)}`}</td>
            <td>{number(v.sum)}</td>
            <td>{number(v.p10)}</td>
            <td>{number(v.p50)}</td>
            <td>{number(v.p90)}</td>
            <td className="text-ink-2">
              {count(v.n)} values, {count(v.answered)} requests answered
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
