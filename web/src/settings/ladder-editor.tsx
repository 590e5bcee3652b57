import { useState } from 'react'
import type { Ladder, LadderRevision, Rung } from '../api/client'
import { useSetLadder } from '../api/ladder'
import { useMay } from '../api/people'
import { Choice } from '../ui/overlays'
import { Button, Field, inputLook, Panel, Problem } from '../ui/parts'
import { RungEditor } from './rung-editor'
import { TextInput } from './ladder-fields'
import { Freezes } from './freezes'
import { PreviewPanel } from './ladder-preview'

const part = (l: LadderRevision): Ladder => ({
  rungs: l.rungs,
  carry_out: l.carry_out,
  remind_after: l.remind_after,
  expire_after: l.expire_after,
  freezes: l.freezes,
})

export function Editor({ project, saved }: { project: string; saved: LadderRevision }) {
  const [ladder, setLadder] = useState<Ladder>(() => part(saved))
  const [reason, setReason] = useState('')
  const may = useMay('manage', project)
  const set = useSetLadder(project, saved.number)
  const changed = JSON.stringify(ladder) !== JSON.stringify(part(saved))
  const setRung = (i: number, rung: Rung | undefined) =>
    setLadder({
      ...ladder,
      rungs: rung ? ladder.rungs.map((r, j) => (j === i ? rung : r)) : ladder.rungs.filter((_, j) => j !== i),
    })
  const move = (i: number, by: number) => {
    const rungs = [...ladder.rungs]
    const [r] = rungs.splice(i, 1)
    if (r) rungs.splice(i + by, 0, r)
    setLadder({ ...ladder, rungs })
  }
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1fr)_minmax(380px,0.75fr)]">
      <fieldset disabled={!may} className="grid min-w-0 gap-4">
        <Panel title="Rungs, the highest on top">
          <div className="grid gap-4">
            {ladder.rungs
              .map((r, i) => (
                <RungEditor
                  key={i}
                  rung={r}
                  lowest={i === 0}
                  highest={i === ladder.rungs.length - 1}
                  onChange={(rung) => setRung(i, rung)}
                  onMove={(by) => move(i, by)}
                />
              ))
              .reverse()}
          </div>
          {may && (
            <Button
              className="mt-4"
              onClick={() =>
                setLadder({
                  ...ladder,
                  rungs: [...ladder.rungs, { name: `rung-${ladder.rungs.length + 1}`, gate: [] }],
                })
              }
            >
              Add a rung on top
            </Button>
          )}
        </Panel>
        <Panel title="For all promotions">
          <div className="flex flex-wrap items-end gap-4">
            <Field label="Carried out, when the gate is met">
              <Choice
                label="Carried out"
                value={ladder.carry_out ?? 'at_once'}
                options={[
                  { value: 'at_once', text: 'at once' },
                  { value: 'by_hand', text: 'by hand' },
                ]}
                onChange={(v) => setLadder({ ...ladder, carry_out: v as 'at_once' })}
              />
            </Field>
            <Field label="Reviewers are reminded after">
              <TextInput
                label="Reminded after"
                narrow
                value={ladder.remind_after ?? ''}
                onCommit={(v) => setLadder({ ...ladder, remind_after: v })}
              />
            </Field>
            <Field label="Expires unanswered after">
              <TextInput
                label="Expires after"
                narrow
                value={ladder.expire_after ?? ''}
                onCommit={(v) => setLadder({ ...ladder, expire_after: v })}
              />
            </Field>
          </div>
        </Panel>
        <Freezes
          freezes={ladder.freezes ?? []}
          onChange={(freezes) => setLadder({ ...ladder, freezes: freezes.length > 0 ? freezes : undefined })}
        />
      </fieldset>
      <div className="grid min-w-0 gap-4 xl:sticky xl:top-5">
        {may && (
          <Panel title="Set the ladder">
            <form
              className="grid gap-3"
              onSubmit={(event) => {
                event.preventDefault()
                set.mutate({ ...ladder, reason })
              }}
            >
              <input
                className={inputLook}
                aria-label="Why it changes"
                placeholder="why it changes"
                value={reason}
                onChange={(event) => setReason(event.target.value)}
              />
              {set.error && <Problem error={set.error} />}
              <div className="flex gap-2">
                <Button look="go" type="submit" disabled={!changed || set.isPending}>
                  Set as revision {saved.number + 1}
                </Button>
                <Button disabled={!changed} onClick={() => setLadder(part(saved))}>
                  Undo
                </Button>
              </div>
            </form>
          </Panel>
        )}
        <PreviewPanel project={project} ladder={ladder} />
      </div>
    </div>
  )
}
