import { useState } from 'react'

import { useAudit } from '../api/queries'
import { Button, inputLook, Loaded, PageHead, Panel, Empty } from '../ui/parts'
import { EntryList } from './entry-list'

export function AuditPage() {
  const [subject, setSubject] = useState('')
  const [limit, setLimit] = useState(50)
  const audit = useAudit(subject.trim() || undefined, limit)
  return (
    <>
      <PageHead title="Audit" sub="who did what, when and why; nothing is ever changed or removed">
        <input className={`${inputLook} w-72!`} aria-label="Only about" placeholder="only about: heat-demand@2" value={subject} onChange={(event) => setSubject(event.target.value)} />
      </PageHead>
      <Panel>
        <Loaded query={audit}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty>There is nothing about {subject || 'anything'} in the record.</Empty>
            ) : (
              <>
                <EntryList entries={list.items} />
                {list.next_cursor && limit < 200 && (
                  <div className="mt-3 text-center">
                    <Button onClick={() => setLimit(200)}>Show more</Button>
                  </div>
                )}
              </>
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}
