import { useSearchParams } from 'react-router'

import type { Promotion } from '../api/client'
import { useMe } from '../api/people'
import { usePromotions, type PromotionFilter } from '../api/ladder'
import { EmergencyTag, GateTicks } from '../models/ladder-board'
import { words } from '../ui/format'
import { Switchboard } from '../ui/overlays'
import { Ago, Empty, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { said } from './said'

const views = ['waiting for me', 'asked by me', 'all that wait', 'ended'] as const

const empty: Record<(typeof views)[number], string> = {
  'waiting for me': 'Nothing waits for you. Whoever wants a version on a higher rung asks for it:',
  'asked by me': 'You have asked for nothing yet. Ask for a higher rung on the page of a version, or:',
  'all that wait': 'Nothing waits. Whoever wants a version on a higher rung asks for it:',
  ended: 'No promotion has ended yet. Ask for one:',
}

/** The promotions: those that wait for whoever looks, their own, all, and those that ended. */
export function ReviewsPage() {
  const [params, setParams] = useSearchParams()
  const me = useMe().data?.name ?? ''
  const view = views.find((v) => v === params.get('show')) ?? 'waiting for me'
  const filter: Record<(typeof views)[number], PromotionFilter> = {
    'waiting for me': { for_me: true, limit: 100 },
    'asked by me': { asked_by: me, limit: 100 },
    'all that wait': { state: 'waiting', limit: 100 },
    ended: { limit: 100 },
  }
  const found = usePromotions(filter[view])
  return (
    <>
      <PageHead title="Reviews" sub="promotions that wait for someone">
        <Switchboard
          label="Which"
          value={view}
          options={[...views]}
          onChange={(v) => setParams(v === views[0] ? {} : { show: v }, { replace: true })}
        />
      </PageHead>
      <Loaded query={found}>
        {(list) => {
          const items = view === 'ended' ? list.items.filter((p) => p.closed_at) : list.items
          return (
            <Panel>
              {items.length === 0 ? (
                <Empty command="innerladder promote heat-demand@2 -to live">{empty[view]}</Empty>
              ) : (
                <ul>
                  {items.map((p) => (
                    <Row key={p.id} promotion={p} />
                  ))}
                </ul>
              )}
            </Panel>
          )
        }}
      </Loaded>
    </>
  )
}

function Row({ promotion: p }: { promotion: Promotion }) {
  const open = p.findings.find((f) => f.state === 'failed') ?? p.findings.find((f) => f.state === 'waiting')
  return (
    <li
      className="border-line grid gap-x-4 gap-y-0.5 border-t py-2.5 first:border-0 first:pt-0 sm:grid-cols-[minmax(0,1fr)_auto]"
      data-promotion={p.id}
    >
      <div className="min-w-0">
        {p.emergency && <EmergencyTag reviewed={p.state !== 'to_review'} />} <To to={`/reviews/${p.id}`}>{p.id}</To>:{' '}
        <Ref to={p.version} /> from {p.from} to <b className="font-medium">{p.to}</b>
        {!p.closed_at && <GateTicks promotion={p} />}
        {p.note && <span className="text-ink-2"> “{p.note}”</span>}
        <div className="text-ink-2 text-[13px]">
          {p.closed_at ? (
            <>
              <Tag tone={p.state === 'carried_out' ? 'main' : 'bad'}>{words(p.state)}</Tag> <Ago at={p.closed_at} />
              {p.sign_offs.map((s) => `; ${s.by} ${said(s)}`)}
            </>
          ) : p.state === 'to_review' ? (
            'It went past its gate; someone other than its author must say whether that was right.'
          ) : p.ready ? (
            'The gate is met; someone has to carry it out.'
          ) : (
            open?.sentence
          )}
        </div>
      </div>
      <span className="text-ink-2 text-[12.5px] sm:text-right">
        asked by {p.asked_by}, <Ago at={p.opened_at} />
      </span>
    </li>
  )
}
