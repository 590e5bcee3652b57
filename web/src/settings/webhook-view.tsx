import { useState } from 'react'
import type { Webhook } from '../api/client'
import { useDeliveries, useRemoveWebhook, useSendAgain } from '../api/keeping'
import { Ago, Empty, LinkButton, Loaded, Tag } from '../ui/parts'
import { classes } from '../ui/classes'

export function WebhookView({ webhook: w }: { webhook: Webhook }) {
  const remove = useRemoveWebhook()
  const [open, setOpen] = useState(false)
  return (
    <div className="border-line border-t pt-2 first:border-0 first:pt-0">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="min-w-0 break-all">
          <b className="font-medium">{w.address}</b>{' '}
          <span className="text-ink-2">
            {w.kinds.length ? w.kinds.join(', ') : 'everything'} in {w.project === '*' ? 'all projects' : w.project}
          </span>
        </span>
        <span className="text-ink-2 flex items-baseline gap-3 text-[12.5px]">
          {w.made_by}, <Ago at={w.made_at} />
          <LinkButton onClick={() => setOpen(!open)}>{open ? 'hide deliveries' : 'deliveries'}</LinkButton>
          <LinkButton bad onClick={() => remove.mutate(w.id)}>
            remove
          </LinkButton>
        </span>
      </div>
      {open && <Deliveries webhook={w.id} />}
    </div>
  )
}

const tones = { waiting: 'trial', delivered: 'main', failed: 'bad' } as const

export function Deliveries({ webhook }: { webhook: number }) {
  const deliveries = useDeliveries(webhook)
  const again = useSendAgain()
  return (
    <Loaded query={deliveries}>
      {(list) =>
        list.items.length === 0 ? (
          <Empty>Nothing was sent yet.</Empty>
        ) : (
          <ul className="mt-1">
            {list.items.map((d) => (
              <li
                key={d.id}
                className={classes(
                  'border-line grid items-baseline gap-x-3 border-t py-1 text-[12.5px]',
                  'md:grid-cols-[90px_minmax(0,1fr)_minmax(0,1fr)_auto]',
                )}
              >
                <Tag tone={tones[d.state]}>{d.state}</Tag>
                <span className="min-w-0 truncate">
                  {d.entry.kind}: {d.entry.sentence} {d.person && `to ${d.person}`}
                </span>
                <span className="text-ink-2 min-w-0 truncate">
                  {d.tries > 0 && `${d.tries === 1 ? '1 try' : `${d.tries} tries`}: `}
                  {d.answer}
                </span>
                <span className="text-ink-2 flex gap-2">
                  <Ago at={d.done_at ?? d.made_at} />
                  <LinkButton onClick={() => again.mutate(d.id)}>send again</LinkButton>
                </span>
              </li>
            ))}
          </ul>
        )
      }
    </Loaded>
  )
}
