import { Check, Square } from 'lucide-react'
import { useState } from 'react'
import type { Review } from '../api/client'
import { useMay, useMe } from '../api/people'
import { useTick } from '../api/ladder'
import { FormSheet } from '../ui/form'
import { Button, Panel, Problem, TextField } from '../ui/parts'

/** What reviewers must have looked at. */
export function Checklist({ review: r }: { review: Review }) {
  const p = r.promotion
  const me = useMe().data?.name
  const may = useMay('sign', p.project) && p.asked_by !== me && !p.closed_at
  return (
    <Panel title="Checklist">
      <ul className="grid gap-2">
        {r.checklist.map((item) => {
          const done = item.tick && !item.tick.stale
          return (
            <li
              key={`${item.rung} ${item.name}`}
              className="grid grid-cols-[20px_minmax(0,1fr)_auto] items-baseline gap-2"
              data-item={item.name}
            >
              {done ? (
                <Check size={15} className="text-main self-center" aria-label="done" />
              ) : (
                <Square size={15} className="text-ink-3 self-center" aria-label="open" />
              )}
              <span className="min-w-0">
                {item.text}
                {item.tick && (
                  <span className="text-ink-2 block text-[13px] break-words">
                    {item.tick.stale ? 'stale: ' : ''}
                    {item.tick.by}: {item.tick.note}{' '}
                    {item.tick.link && (
                      <a
                        className="underline underline-offset-3"
                        href={item.tick.link}
                        rel="noreferrer noopener"
                        target="_blank"
                      >
                        {item.tick.link}
                      </a>
                    )}
                  </span>
                )}
              </span>
              {may && !done && <TickSheet promotion={p.id} item={item} />}
            </li>
          )
        })}
      </ul>
    </Panel>
  )
}

function TickSheet({ promotion, item }: { promotion: string; item: Review['checklist'][number] }) {
  const tick = useTick(promotion)
  const [note, setNote] = useState('')
  const [link, setLink] = useState('')
  return (
    <FormSheet title={item.text} trigger={<Button className="px-2 py-0.5">Tick</Button>}>
      {(done) => (
        <form
          className="grid gap-4"
          onSubmit={(event) => {
            event.preventDefault()
            tick.mutate(
              { item: item.name, rung: item.rung, note: note || undefined, link: link || undefined },
              { onSuccess: done },
            )
          }}
        >
          <TextField label="What you saw" rows={2} value={note} onChange={setNote} />
          <TextField
            label={item.link ? 'Address of what shows it (needed)' : 'Address of what shows it'}
            type="url"
            placeholder="https://"
            value={link}
            onChange={setLink}
          />
          {tick.error && <Problem error={tick.error} />}
          <div className="flex justify-end">
            <Button look="go" type="submit" disabled={tick.isPending}>
              I looked at it
            </Button>
          </div>
        </form>
      )}
    </FormSheet>
  )
}
