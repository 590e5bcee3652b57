import { MessageSquare } from 'lucide-react'
import { useState } from 'react'

import type { Happening } from '../api/client'
import { useActivity, useComment, useMay } from '../api/people'
import { Prose } from '../ui/prose'
import { Ago, Button, Empty, inputLook, Loaded, Panel, Problem, Subject } from '../ui/parts'

/** A text in which @NAME stands out. */
export function Said({ text }: { text: string }) {
  return (
    <span className="whitespace-pre-wrap">
      {text.split(/(?<![\w@.-])(@[a-z0-9][a-z0-9-]*)/g).map((part, i) => (i % 2 === 1 ? <b key={i}>{part}</b> : part))}
    </span>
  )
}

function CommentBox({ on, subject, label, done }: { on?: number; subject?: string; label: string; done?: () => void }) {
  const comment = useComment()
  const [text, setText] = useState('')
  const missed = comment.data?.unreached ?? []
  return (
    <form
      className="mt-1.5 grid gap-1.5"
      onSubmit={(event) => {
        event.preventDefault()
        comment.mutate(
          { on, subject, text },
          {
            onSuccess: (said) => {
              setText('')
              if (!said.unreached?.length) done?.()
            },
          },
        )
      }}
    >
      <div className="flex items-start gap-2">
        <textarea
          className={inputLook}
          rows={1}
          aria-label={label}
          placeholder={`${label}; @NAME tells someone`}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Button type="submit" disabled={comment.isPending || text.trim() === ''}>
          Comment
        </Button>
      </div>
      {missed.length > 0 && (
        <p className="text-trial text-[12.5px]">
          Not told, because there is nobody of that name or they may not see this: {missed.join(', ')}
        </p>
      )}
      {comment.error && <Problem error={comment.error} />}
    </form>
  )
}

function Line({ happening: h, where }: { happening: Happening; where: boolean }) {
  const may = useMay('comment', h.project ?? '*')
  const [open, setOpen] = useState(false)
  const comments = h.comments ?? []
  return (
    <li className="border-line border-t py-1.5 first:border-0">
      <div className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-4">
        <span className="min-w-0 break-words">
          {h.sentence}
          {h.reason && !h.sentence.includes(h.reason) && (
            <span className="text-ink-2">
              {' '}
              {h.kind === 'comment.made' ? (
                <Prose text={h.reason} />
              ) : (
                <>
                  “<Said text={h.reason} />”
                </>
              )}
            </span>
          )}
        </span>
        <span className="text-ink-2 flex items-baseline justify-end gap-1.5 text-right text-[12.5px]">
          <span>
            {h.actor}, <Ago at={h.at} />
          </span>
          {where && (
            <span className="hidden lg:inline">
              · <Subject kind={h.kind} subject={h.subject} />
            </span>
          )}
          {may && (
            <button
              type="button"
              className="hover:text-ink cursor-pointer self-center"
              aria-label={`Comment on line ${h.seq}`}
              aria-expanded={open}
              onClick={() => setOpen(!open)}
            >
              <MessageSquare size={13} />
            </button>
          )}
        </span>
      </div>
      {comments.length > 0 && (
        <ul className="border-line-strong mt-1 ml-1 grid gap-0.5 border-l-2 pl-3">
          {comments.map((c) => (
            <li key={c.seq}>
              <b className="font-medium">{c.actor}</b> <Prose text={c.reason ?? ''} />{' '}
              <span className="text-ink-3 text-[12.5px]">
                <Ago at={c.at} />
              </span>
            </li>
          ))}
        </ul>
      )}
      {open && <CommentBox on={h.seq} label="Say something about it" done={() => setOpen(false)} />}
    </li>
  )
}

/** What happened, with what people say about it: about a subject, in a project, or all of it. It keeps itself up to date. */
export function ActivityList({
  subject,
  project,
  limit,
  more = true,
  commentOn,
}: {
  subject?: string
  project?: string
  limit?: number
  more?: boolean
  commentOn?: string
}) {
  const activity = useActivity({ subject, project }, limit)
  const may = useMay('comment')
  return (
    <>
      <Loaded query={activity}>
        {(list) => {
          const items = list.pages.flatMap((p) => p.items)
          return items.length === 0 ? (
            <Empty>Nothing has happened yet.</Empty>
          ) : (
            <ol>
              {items.map((h) => (
                <Line key={h.seq} happening={h} where={h.subject !== subject} />
              ))}
            </ol>
          )
        }}
      </Loaded>
      {more && activity.hasNextPage && (
        <div className="mt-2 text-center">
          <Button disabled={activity.isFetchingNextPage} onClick={() => void activity.fetchNextPage()}>
            Show more
          </Button>
        </div>
      )}
      {commentOn && may && <CommentBox subject={commentOn} label={`Say something about ${commentOn}`} />}
    </>
  )
}

/** The activity of what a page is about. */
export function ActivityPanel({ subject, title = 'Activity' }: { subject: string; title?: string }) {
  return (
    <Panel title={title}>
      <ActivityList subject={subject} commentOn={subject} limit={12} />
    </Panel>
  )
}

/** The activity of something on a page with many, folded away until it is asked for. */
export function ActivityFold({ subject }: { subject: string }) {
  const [open, setOpen] = useState(false)
  return (
    <div className="mt-3">
      <button
        type="button"
        className="text-ink-2 hover:text-ink inline-flex cursor-pointer items-center gap-1.5 text-[12.5px] underline underline-offset-3"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        <MessageSquare size={13} aria-hidden /> {open ? 'hide' : `what happened to ${subject}, and comments`}
      </button>
      {open && (
        <div className="mt-2">
          <ActivityList subject={subject} commentOn={subject} limit={8} />
        </div>
      )}
    </div>
  )
}
