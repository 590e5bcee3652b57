import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'

import { tryVersions } from '../api/running'
import type { Version } from '../api/client'
import { LineFigure } from '../charts/line-figure'
import { Button, Field, inputLook, Problem, TextField } from '../ui/parts'
import { answerOf, requestOf, type Part, type Tensor, type TryRow } from './request'

type Column = NonNullable<Version['signature']>['inputs'][number]

const points = 41

const isNumber = (p: Part) => p.datatype !== 'BYTES' && p.datatype !== 'BOOL'

/** The places between two ends at which an input is tried; whole ones where it is whole. */
function places(from: number, to: number, whole: boolean): number[] {
  const all = Array.from({ length: points }, (_, i) => from + ((to - from) * i) / (points - 1))
  return whole ? [...new Set(all.map(Math.round))] : all
}

/** What changes when one input moves and the others stay: a curve for each version. */
export function Sweep({
  environment,
  versions,
  inputs,
  parts,
  columns,
  row,
}: {
  environment: string
  versions: string[]
  inputs: Tensor[]
  parts: Part[]
  columns: Column[]
  row: TryRow
}) {
  const movable = parts.filter(isNumber)
  const [key, setKey] = useState(movable[0]?.key ?? '')
  const [ends, setEnds] = useState<{ from: string; to: string }>()
  const part = movable.find((p) => p.key === key)
  const column = columns.find((c) => c.name === key)
  const here = Number(row[key] ?? 0)
  const from = Number(ends?.from ?? column?.min ?? here - Math.max(1, Math.abs(here)))
  const to = Number(ends?.to ?? column?.max ?? here + Math.max(1, Math.abs(here)))
  const sweep = useMutation({
    mutationFn: async () => {
      const at = places(from, to, /INT/.test(part?.datatype ?? ''))
      const rows = at.map((x) => ({ ...row, [key]: x }))
      const tried = await tryVersions({ versions, environment, request: requestOf(inputs, rows) })
      return { key, at, tried }
    },
  })
  if (movable.length === 0) return <p>No input is a number, so none can be moved.</p>
  const moved = sweep.data
  return (
    <div className="grid gap-3">
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault()
          sweep.mutate()
        }}
      >
        <Field label="Input that moves">
          <select
            className={inputLook}
            name="moves"
            value={key}
            onChange={(e) => {
              setKey(e.target.value)
              setEnds(undefined)
            }}
          >
            {movable.map((p) => (
              <option key={p.key}>{p.key}</option>
            ))}
          </select>
        </Field>
        <TextField
          label="from"
          value={ends?.from ?? String(from)}
          onChange={(v) => setEnds({ from: v, to: String(to) })}
        />
        <TextField label="to" value={ends?.to ?? String(to)} onChange={(v) => setEnds({ from: String(from), to: v })} />
        <Button type="submit" disabled={sweep.isPending || !(to > from)}>
          Move it
        </Button>
      </form>
      {sweep.error && <Problem error={sweep.error} />}
      {moved?.tried.items
        .filter((t) => t.trouble || t.status !== 200)
        .map((t) => (
          <Problem key={t.version} error={new Error(`${t.version}: ${t.trouble || `answered ${t.status}`}`)} />
        ))}
      {moved && <Curves at={moved.at} name={moved.key} unit={unitOf(columns, moved.key)} tried={moved.tried} />}
    </div>
  )
}

const unitOf = (columns: Column[], key: string) => columns.find((c) => c.name === key)?.unit

function Curves({
  at,
  name,
  unit,
  tried,
}: {
  at: number[]
  name: string
  unit: string | undefined
  tried: Awaited<ReturnType<typeof tryVersions>>
}) {
  const answered = tried.items.filter((t) => t.status === 200)
  const outputs = answered[0] ? answerOf(answered[0].answer, 0).filter((o) => typeof o.values[0] === 'number') : []
  return (
    <>
      {outputs.flatMap((o) =>
        o.values.slice(0, 6).map((_, i) => (
          <LineFigure
            key={`${o.name} ${i}`}
            title={`${o.name}${o.values.length > 1 ? ` ${i + 1}` : ''} as ${name} moves${unit ? `, in ${unit}` : ''}`}
            xName={name}
            lines={answered.map((t) => ({
              name: t.version,
              points: at.map((x, r) => ({
                x,
                y: Number(answerOf(t.answer, r).find((p) => p.name === o.name)?.values[i]),
              })),
            }))}
          />
        )),
      )}
    </>
  )
}
