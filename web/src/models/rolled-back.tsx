import { Undo2 } from 'lucide-react'

import type { Version } from '../api/client'
import { short } from '../ui/format'
import { Ago, Ref, To } from '../ui/parts'
import { classes } from '../ui/classes'

type RolledBack = NonNullable<Version['rolled_back']>

/** The loud mark of a version that was taken out of an endpoint for a reason. */
export function RolledBackTag() {
  return (
    <span
      className={classes(
        'border-bad bg-bad-soft text-bad inline-flex items-center gap-1',
        'rounded-full border px-2 text-[12px] font-semibold whitespace-nowrap',
      )}
    >
      <Undo2 size={12} aria-hidden /> rolled back
    </span>
  )
}

/** Where, when and why it was rolled back, with the way to the alert and to the comparison. */
export function RolledBackNote({ version, back: b }: { version: string; back: RolledBack }) {
  return (
    <p className="border-bad bg-bad-soft rounded-md border px-3.5 py-2.5">
      <RolledBackTag /> {short(version)} was taken out of <To to={`/endpoints/${b.endpoint}`}>{b.endpoint}</To> by{' '}
      {b.by}, <Ago at={b.at} />, with split #{b.split}: “{b.why}” <Ref to={b.instead}>{short(b.instead)}</Ref> answers
      instead.{' '}
      {b.incident && (
        <>
          <To to={`/incidents/${b.incident}`}>{b.incident}</To> ·{' '}
        </>
      )}
      {b.alert && (
        <>
          <To to="/alerts">{b.alert}</To> ·{' '}
        </>
      )}
      <To to={`/endpoints/${b.endpoint}/compare?incumbent=${b.instead}&candidate=${version}&until=${b.at}`}>
        how both behaved
      </To>
    </p>
  )
}
