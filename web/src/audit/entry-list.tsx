import type { Entry } from '../api/client'
import { Ago, Subject } from '../ui/parts'

/** Lines of the record in words. */
export function EntryList({ entries }: { entries: Entry[] }) {
  return (
    <ol>
      {entries.map((e) => (
        <li key={e.seq} className="border-line grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 border-t py-1.5 first:border-0">
          <span className="min-w-0 break-words">
            {e.sentence}
            {e.reason && !e.sentence.includes(e.reason) && <span className="text-ink-2"> “{e.reason}”</span>}
          </span>
          <span className="text-ink-2 text-right text-[12.5px]">
            {e.actor}, <Ago at={e.at} />
            <span className="hidden lg:inline">
              {' '}
              · <Subject kind={e.kind} subject={e.subject} />
            </span>
          </span>
        </li>
      ))}
    </ol>
  )
}
