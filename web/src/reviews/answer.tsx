import { useState } from 'react'
import type { Review } from '../api/client'
import { useMay, useMe, usePeople } from '../api/people'
import { useCarryOut, useSign } from '../api/ladder'
import { short } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button, inputLook, Panel, Problem, Ref } from '../ui/parts'
import { said } from './said'

const laters = [
  ['4h', 'in four hours', 4],
  ['24h', 'tomorrow', 24],
  ['72h', 'in three days', 72],
  ['168h', 'in a week', 168],
] as const

/** The box to answer in: yes, no, later, or somebody else. */
export function Decide({ review: r }: { review: Review }) {
  const p = r.promotion
  const me = useMe().data?.name
  const may = useMay('sign', p.project)
  const mayAsk = useMay('ask', p.project)
  const sign = useSign(p.id)
  const carry = useCarryOut(p.id)
  const people = usePeople().data?.items.filter((x) => !x.robot && x.name !== me && x.name !== p.asked_by) ?? []
  const [note, setNote] = useState('')
  const [how, setHow] = useState('later')
  const [when, setWhen] = useState<string>('24h')
  const [who, setWho] = useState('')
  const mine = p.sign_offs.find((s) => s.by === me && !s.stale && !s.void)
  const answer = (body: Parameters<typeof sign.mutate>[0]) =>
    sign.mutate({ ...body, note: note || undefined }, { onSuccess: () => setNote('') })
  if (p.closed_at) return null
  return (
    <Panel title={p.state === 'to_review' ? 'Was it right?' : 'Your answer'}>
      {p.ready ? (
        <>
          <p>The gate is met. Somebody has to carry it out.</p>
          {mayAsk && (
            <Button look="go" className="mt-2" disabled={carry.isPending} onClick={() => carry.mutate()}>
              Carry it out
            </Button>
          )}
          {carry.error && <Problem error={carry.error} />}
        </>
      ) : p.asked_by === me ? (
        <p className="text-ink-2">You asked for it, so someone else must sign.</p>
      ) : !may ? (
        <p className="text-ink-2">It waits for someone who may sign in {p.project}.</p>
      ) : (
        <form className="grid gap-3" onSubmit={(event) => event.preventDefault()}>
          {mine && <p className="text-ink-2">You: {said(mine)}. A new answer takes its place.</p>}
          {p.state === 'to_review' && (
            <p>
              A no takes {short(p.version)} back to {p.from}
              {r.answers.length > 0 && `; it answers for ${r.answers.join(', ')} until the split is changed`}.
            </p>
          )}
          <textarea
            className={inputLook}
            rows={2}
            aria-label="Note"
            placeholder="what you looked at; needed for a no"
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
          <div className="flex flex-wrap gap-2">
            <Button look="go" disabled={sign.isPending} onClick={() => answer({ answer: 'yes' })}>
              Sign yes
            </Button>
            <Button look="back" disabled={sign.isPending} onClick={() => answer({ answer: 'no' })}>
              Say no
            </Button>
          </div>
          <div className="border-line flex flex-wrap items-center gap-2 border-t pt-3">
            <Choice
              label="Or"
              value={how}
              options={[
                { value: 'later', text: 'answer later' },
                { value: 'hand', text: 'hand it over' },
              ]}
              onChange={setHow}
            />
            {how === 'later' ? (
              <>
                <Choice
                  label="When"
                  value={when}
                  options={laters.map(([value, text]) => ({ value, text }))}
                  onChange={setWhen}
                />
                <Button
                  disabled={sign.isPending}
                  onClick={() =>
                    answer({
                      answer: 'later',
                      until: new Date(
                        Date.now() + (laters.find(([v]) => v === when)?.[2] ?? 24) * 3_600_000,
                      ).toISOString(),
                    })
                  }
                >
                  Later
                </Button>
              </>
            ) : (
              <>
                <Choice
                  label="To whom"
                  value={who}
                  options={people.map((x) => ({ value: x.name, text: x.name }))}
                  onChange={setWho}
                />
                <Button disabled={sign.isPending || !who} onClick={() => answer({ answer: 'hand_over', to: who })}>
                  Hand over
                </Button>
              </>
            )}
          </div>
          {r.sign_roles.length > 0 && (
            <p className="text-ink-2 text-[12.5px]">Signed for by those with the role {r.sign_roles.join(' or ')}.</p>
          )}
        </form>
      )}
      {p.incumbent && p.state === 'open' && (
        <p className="text-ink-2 mt-3 text-[13px]">
          A sign-off is for {short(p.version)} against <Ref to={p.incumbent} />; it does not count if either changes.
        </p>
      )}
      {sign.error && (
        <div className="mt-3">
          <Problem error={sign.error} />
        </div>
      )}
    </Panel>
  )
}
