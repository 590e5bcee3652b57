import { ShieldAlert, ShieldCheck } from 'lucide-react'
import { useVerify } from '../api/people'
import { count } from '../ui/format'
import { Button, Problem } from '../ui/parts'
import { classes } from '../ui/classes'

/** Whether the record is what was written, as far as the service can tell by itself. */
export function Verify() {
  const verify = useVerify()
  const found = verify.data
  return (
    <>
      <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
        {verify.isPending ? 'Reading all of it…' : 'Verify'}
      </Button>
      {verify.error && <Problem error={verify.error} />}
      {found && (
        <div
          role="status"
          className={classes(
            'flex w-full items-start gap-2 rounded-md border px-3 py-2',
            found.breaks.length === 0 ? 'border-main bg-main-soft' : 'border-bad bg-bad-soft',
          )}
        >
          {found.breaks.length === 0 ? (
            <ShieldCheck size={16} className="text-main mt-0.5" aria-hidden />
          ) : (
            <ShieldAlert size={16} className="text-bad mt-0.5" aria-hidden />
          )}
          <span className="min-w-0">
            {found.breaks.length === 0
              ? `Intact: all ${count(found.lines)} lines are as they were written.`
              : found.breaks.map((b) => b.sentence).join('; ')}
            <span className="text-ink-2 block text-[12.5px] break-all">
              read in {found.ms} ms · head {found.head}
            </span>
          </span>
        </div>
      )}
    </>
  )
}
