import { useState } from 'react'

import { useChangeRollout, type ShownRollout, type Verb } from '../api/rollouts'
import { Form, FormSheet } from '../ui/form'
import { short } from '../ui/format'
import { Button, TextField } from '../ui/parts'
import { has } from './words'

/** What a person can do with a rollout now; each button says what it will do. */
export function RolloutButtons({ rollout: o }: { rollout: ShownRollout }) {
  const old = short(o.incumbent)
  const fresh = short(o.candidate)
  const shadow = o.plan.kind === 'shadow'
  const compares = o.plan.kind === 'comparison'
  const finishes = shadow
    ? 'Finish: the copies are enough'
    : compares
      ? 'Finish: that is enough'
      : o.phase === 'baking'
        ? `Finish: ${fresh} stays`
        : `Give ${fresh} everything`
  return (
    <>
      {o.held ? (
        <Act rollout={o} verb="resume" text="Let it go on" />
      ) : (
        <Act rollout={o} verb="hold" text={`Hold at ${has(o)}`} />
      )}
      {!o.held && !['baking', 'copying', 'comparing'].includes(o.phase) && (
        <Act rollout={o} verb="speed" text={`Now: ${o.standing.next}`} />
      )}
      {!o.held && !((shadow || compares) && o.phase === 'waiting') && <Act rollout={o} verb="finish" text={finishes} />}
      <Act rollout={o} verb="end" text={o.share > 0 ? `Back to ${old}, 100 %` : 'End it'} bad />
    </>
  )
}

function Act({ rollout: o, verb, text, bad }: { rollout: ShownRollout; verb: Verb; text: string; bad?: boolean }) {
  return (
    <FormSheet title={`${o.id}: ${text}`} trigger={<Button look={bad ? 'back' : 'plain'}>{text}</Button>}>
      {(done) => <ActForm id={o.id} verb={verb} text={text} done={done} />}
    </FormSheet>
  )
}

function ActForm({ id, verb, text, done }: { id: string; verb: Verb; text: string; done: () => void }) {
  const change = useChangeRollout(id)
  const [reason, setReason] = useState('')
  return (
    <Form
      submit={text}
      pending={change.isPending}
      error={change.error}
      onSubmit={() => change.mutate({ do: verb, reason }, { onSuccess: done })}
    >
      <TextField label="Why" required placeholder="so that others know at 3 a.m." value={reason} onChange={setReason} />
    </Form>
  )
}
