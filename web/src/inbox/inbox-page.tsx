import { useState } from 'react'

import type { Notice } from '../api/client'
import { useInbox, useMarkRead } from '../api/people'
import { Said } from '../activity/activity-list'
import { Switchboard } from '../ui/overlays'
import { Ago, Button, Empty, Loaded, PageHead, Panel, Subject, Tag, To } from '../ui/parts'

const tones = {
  mention: 'trial',
  review: 'trial',
  alert: 'bad',
  answer: 'main',
  comment: 'quiet',
  split: 'quiet',
  version: 'quiet',
} as const

function Line({ notice: n }: { notice: Notice }) {
  const mark = useMarkRead()
  const e = n.entry
  return (
    <li
      className={`border-line grid grid-cols-[84px_minmax(0,1fr)_auto] items-baseline gap-x-3 border-t py-2 first:border-0 ${n.read_at ? 'text-ink-2' : ''}`}
    >
      <span>
        <Tag tone={tones[n.topic]}>{n.topic}</Tag>
      </span>
      <span className="min-w-0">
        <span className={n.read_at ? '' : 'font-medium'}>{e.sentence}</span>
        {e.reason && (
          <span className="text-ink-2 block">
            “<Said text={e.reason} />”
          </span>
        )}
        <span className="text-[12.5px]">
          {n.topic === 'review' ? <To to="/reviews">to the reviews</To> : <Subject kind={e.kind} subject={e.subject} />}
        </span>
      </span>
      <span className="text-ink-2 text-right text-[12.5px]">
        {e.actor}, <Ago at={e.at} />
        {!n.read_at && (
          <button
            type="button"
            className="hover:text-ink ml-2 cursor-pointer underline underline-offset-3"
            onClick={() => mark.mutate({ notice: n.id, alone: true })}
          >
            read
          </button>
        )}
      </span>
    </li>
  )
}

export function InboxPage() {
  const [which, setWhich] = useState('all')
  const inbox = useInbox(which === 'unread')
  const mark = useMarkRead()
  const newest = inbox.data?.pages[0]?.items[0]
  return (
    <>
      <PageHead
        title="Inbox"
        sub={
          <>
            what concerns you; <To to="/settings/me">choose what reaches you</To>
          </>
        }
      >
        <Switchboard label="Which" value={which} options={['all', 'unread']} onChange={setWhich} />
        {newest && <Button onClick={() => mark.mutate({ notice: newest.id })}>Mark all as read</Button>}
      </PageHead>
      <Panel>
        <Loaded query={inbox}>
          {(list) => {
            const items = list.pages.flatMap((p) => p.items)
            return items.length === 0 ? (
              <Empty>
                Nothing {which === 'unread' ? 'unread' : 'here yet'}. Mentions of you and promotions that you may sign
                come here.
              </Empty>
            ) : (
              <ol>
                {items.map((n) => (
                  <Line key={n.id} notice={n} />
                ))}
              </ol>
            )
          }}
        </Loaded>
        {inbox.hasNextPage && (
          <div className="mt-2 text-center">
            <Button onClick={() => void inbox.fetchNextPage()}>Show more</Button>
          </div>
        )}
      </Panel>
    </>
  )
}
