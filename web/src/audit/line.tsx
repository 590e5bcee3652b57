import { ChevronDown, ChevronRight } from 'lucide-react'
import { useState } from 'react'
import type { Entry } from '../api/client'
import { Ago, Subject } from '../ui/parts'

/** Values before and after, address and request: what the record knows of a line beyond its sentence. */
function Values({ entry: e }: { entry: Entry }) {
  const pretty = (v: unknown) => JSON.stringify(v, null, 2)
  return (
    <div className="bg-paper border-line mt-1 mb-2 grid gap-2 rounded-md border p-3 text-[12.5px]">
      <span className="text-ink-2">
        {e.kind} · line {e.seq}
        {e.project && ` · project ${e.project}`}
        {e.address && ` · from ${e.address}`}
        {e.request_id && ` · request ${e.request_id}`}
      </span>
      {(e.before !== undefined || e.after !== undefined) && (
        <div className="grid gap-3 md:grid-cols-2">
          {(['before', 'after'] as const).map((side) => (
            <div key={side} className="min-w-0">
              <b>{side}</b>
              <pre className="max-h-72 overflow-auto whitespace-pre-wrap">
                {e[side] === undefined ? 'nothing' : pretty(e[side])}
              </pre>
            </div>
          ))}
        </div>
      )}
    </div>
  )
}

export function Line({ entry: e }: { entry: Entry }) {
  const [open, setOpen] = useState(false)
  return (
    <li className="border-line border-t py-1.5 first:border-0">
      <div className="grid grid-cols-[18px_minmax(0,1fr)] gap-x-2 md:grid-cols-[18px_minmax(0,1fr)_250px_150px]">
        <button
          type="button"
          className="text-ink-3 cursor-pointer self-center"
          aria-label={`Values of line ${e.seq}`}
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
        </button>
        <span className="min-w-0 break-words">
          {e.sentence}
          {e.reason && !e.sentence.includes(e.reason) && <span className="text-ink-2"> “{e.reason}”</span>}
        </span>
        <span className="text-ink-2 col-start-2 truncate text-[12.5px] md:col-start-auto">
          {e.kind} · <Subject kind={e.kind} subject={e.subject} />
        </span>
        <span className="text-ink-2 col-start-2 text-[12.5px] md:col-start-auto md:text-right">
          {e.actor}, <Ago at={e.at} />
        </span>
      </div>
      {open && <Values entry={e} />}
    </li>
  )
}
