import { Link, useParams } from 'react-router'

import { useMay } from '../api/people'
import { useEndpointNow } from '../api/queries'
import { useRollout, type ShownRollout } from '../api/rollouts'
import { ActivityPanel } from '../activity/activity-list'
import { EvidenceChart } from '../charts/evidence-chart'
import { CopiesDrawing } from '../copies/copies-drawing'
import { LaneBand } from '../endpoints/lane-band'
import { short, words } from '../ui/format'
import { Ago, Button, Empty, Loaded, PageHead, Panel, Tag, To } from '../ui/parts'
import { Decisions, Waits } from './decision-log'
import { RolloutButtons } from './rollout-buttons'
import { GuardTable, Harm } from './rollout-guards'
import { RolloutWay } from './rollout-way'
import { VerdictPanel } from './verdict'
import { isOver, planName, stands, tone } from './words'

export function RolloutPage() {
  const { rollout: id = '' } = useParams()
  return <Loaded query={useRollout(id)}>{(o) => <RolloutView rollout={o} />}</Loaded>
}

/** What a rollout does, in a few words. */
function title(o: ShownRollout) {
  const model = o.candidate.split('@')[0] ?? ''
  const [from, to] = [short(o.incumbent), short(o.candidate)]
  if (o.plan.kind === 'shadow') return `${to} of ${model} on copies of what ${from} answers`
  if (o.plan.kind === 'comparison') return `${to} of ${model} compared with ${from}`
  return `${from} → ${to} of ${model}`
}

function RolloutView({ rollout: o }: { rollout: ShownRollout }) {
  const now = useEndpointNow(o.endpoint)
  const may = useMay('route', o.project)
  const over = isOver(o)
  const shadow = o.plan.kind === 'shadow'
  return (
    <>
      <PageHead
        title={
          <span className="inline-flex flex-wrap items-center gap-2.5">
            {o.id}: {title(o)}
            <Tag tone={tone(o)}>{stands(o)}</Tag>
          </span>
        }
        sub={
          <>
            <To to={`/endpoints/${o.endpoint}`}>{o.endpoint}</To> · {words(o.plan.kind)} by the plan{' '}
            <b className="font-medium">{planName(o.plan)}</b> · begun <Ago at={o.asked_at} /> by {o.by}
            {o.reason && ` · “${o.reason}”`}
          </>
        }
      >
        {o.incident && (
          <Link to={`/incidents/${o.incident}`}>
            <Button look="back" tabIndex={-1}>
              {o.incident}: what happened
            </Button>
          </Link>
        )}
        <Link to={`/endpoints/${o.endpoint}/compare?incumbent=${o.incumbent}&candidate=${o.candidate}`}>
          <Button tabIndex={-1}>
            Compare {short(o.incumbent)} and {short(o.candidate)}
          </Button>
        </Link>
        {may && !over && <RolloutButtons rollout={o} />}
      </PageHead>
      {o.held && (
        <Panel className="border-l-trial-line border-l-[3px]">
          <b>Held</b> by {o.held.by}, <Ago at={o.held.at} />: {o.held.why}
        </Panel>
      )}
      <Panel title="The way">
        <RolloutWay rollout={o} />
        {o.plan.first && (
          <p className="text-ink-2 mt-2 text-[13px] [overflow-wrap:anywhere]">
            {short(o.candidate)} answers first, before shares: {o.plan.first.join('; ')}. They are counted apart.
          </p>
        )}
        {!over && <Waits rollout={o} />}
      </Panel>
      {!over && now && (
        <Panel title="Who answers now">
          <LaneBand lanes={now.lanes} />
        </Panel>
      )}
      {o.verdict && <VerdictPanel rollout={o} verdict={o.verdict} />}
      {o.copies_shown && (
        <Panel
          title={`What ${shadow || o.copies_shown.against === o.incumbent ? 'its copies' : 'copies for ' + short(o.incumbent)} show`}
          aside={
            o.evidence && (
              <To to={`/models/${o.candidate.replace('@', '/versions/')}?show=evidence#${o.evidence}`}>{o.evidence}</To>
            )
          }
        >
          <CopiesDrawing report={o.copies_shown} />
        </Panel>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        <Panel title={over ? 'What the guards knew when it ended' : 'What the guards know'}>
          <GuardTable rollout={o} />
          <Harm rollout={o} />
        </Panel>
        <Panel title={`Evidence against it, and what would ${shadow ? 'end its copies' : 'roll it back'}`}>
          {o.curve.length === 0 ? <Empty>Nothing was watched yet.</Empty> : <EvidenceChart guards={o.curve} all />}
        </Panel>
      </div>
      <Decisions rollout={o} />
      <ActivityPanel subject={o.id} />
    </>
  )
}
