import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'

import { useEndpoint, usePlacements, useVersion } from '../api/queries'
import { tryVersions, type TriedVersions } from '../api/running'
import type { Version } from '../api/client'
import { Button, Empty, Loaded, PageHead, Panel, Problem, TextField, To } from '../ui/parts'
import { Answers } from './answers'
import { CodePanel } from './code-panel'
import { firstRow, partsOf, requestOf, rowsOfCSV, tensorsOf, textOf, valueOf, type Part, type TryRow } from './request'
import { RowForm } from './row-form'
import { Sweep } from './sweep'
import { Why } from './why'

/** Asks placed versions what one would like to know before callers do; nothing of it is counted. */
export function TryPage() {
  const { environment = '', ref = '' } = useParams()
  const [params] = useSearchParams()
  const endpoint = params.get('endpoint') ?? ''
  const beside = params.get('beside')?.split(',') ?? []
  const version = useVersion(ref)
  // The service makes the sample, with the types that the servers take.
  const sample = useQuery({
    queryKey: ['try', environment, ref],
    queryFn: () => tryVersions({ versions: [ref], environment }),
    staleTime: Infinity,
    retry: false,
  })
  return (
    <>
      <PageHead
        title={`Try ${ref}`}
        sub={
          <>
            in {environment}
            {endpoint && (
              <>
                , as <To to={`/endpoints/${endpoint}`}>{endpoint}</To> is asked
              </>
            )}{' '}
            · what is asked here goes to the model servers themselves: no lane counts it
          </>
        }
      />
      <Loaded query={version}>
        {(v) => (
          <Loaded query={sample}>
            {(s) => (
              <Trying key={ref} environment={environment} version={v} sample={s} endpoint={endpoint} beside={beside} />
            )}
          </Loaded>
        )}
      </Loaded>
    </>
  )
}

/** The versions of a model that can be asked in an environment; those of an endpoint's lanes first chosen. */
function useAskable(environment: string, version: Version, endpoint: string) {
  const placed = (usePlacements().data?.items ?? [])
    .filter((p) => p.environment === environment && !p.elsewhere && p.version.startsWith(`${version.model}@`))
    .map((p) => p.version)
  const lanes = useEndpoint(endpoint || 'none').data?.split?.lanes ?? []
  return { placed, lanes: endpoint ? lanes : [] }
}

function Trying({
  environment,
  version: v,
  sample,
  endpoint,
  beside,
}: {
  environment: string
  version: Version
  sample: TriedVersions
  endpoint: string
  /** Versions that are asked too from the beginning. */
  beside: string[]
}) {
  const inputs = tensorsOf(sample.request, 'inputs')
  const parts = partsOf(inputs)
  const columns = v.signature?.inputs ?? []
  const { placed, lanes } = useAskable(environment, v, endpoint)
  const laneOf = (ref: string) => lanes.find((l) => l.version === ref)?.kind
  const [chosen, setChosen] = useState<string[]>()
  const versions = chosen ?? [
    ...new Set([v.ref, ...[...lanes.map((l) => l.version), ...beside].filter((l) => placed.includes(l))]),
  ]
  const [texts, setTexts] = useState(() =>
    Object.fromEntries(Object.entries(firstRow(inputs)).map(([k, x]) => [k, textOf(x)])),
  )
  const [csv, setCSV] = useState('')
  const wrong = (p: Part) => valueOf(texts[p.key] ?? '', p.datatype) === undefined
  const row: TryRow = Object.fromEntries(parts.map((p) => [p.key, valueOf(texts[p.key] ?? '', p.datatype) ?? null]))
  const rows = csv.trim() ? rowsOfCSV(csv, parts, row) : [row]
  const ask = useMutation({
    mutationFn: async (rows: TryRow[]) => ({
      rows,
      tried: await tryVersions({ versions, environment, request: requestOf(inputs, rows) }),
    }),
  })
  if (parts.length === 0)
    return (
      <Panel>
        <Empty>Its signature has no input that can be written in a form.</Empty>
      </Panel>
    )
  const shown = ask.data ?? { rows: [firstRow(inputs)], tried: sample }
  const ready = typeof rows !== 'string' && !parts.some(wrong)
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title="What is asked">
          <form
            className="grid gap-4"
            onSubmit={(e) => {
              e.preventDefault()
              if (ready) ask.mutate(rows)
            }}
          >
            <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
              <legend className="text-ink-2 mb-0.5 text-[13px]">Versions that are asked, side by side</legend>
              {[...new Set([v.ref, ...placed])].map((p) => (
                <label key={p} className="inline-flex items-center gap-1.5">
                  <input
                    type="checkbox"
                    disabled={p === v.ref}
                    checked={versions.includes(p)}
                    onChange={(e) =>
                      setChosen(e.target.checked ? [...versions, p] : versions.filter((one) => one !== p))
                    }
                  />
                  {p}
                  {laneOf(p) && <span className="text-ink-2 text-[12.5px]">{laneOf(p)}</span>}
                </label>
              ))}
            </fieldset>
            <RowForm
              parts={parts.slice(0, 64)}
              columns={columns}
              texts={texts}
              wrong={wrong}
              onChange={(key, text) => setTexts({ ...texts, [key]: text })}
            />
            <details>
              <summary className="cursor-pointer text-[13px]">many rows at once</summary>
              <TextField
                label="CSV with names of inputs in its first line; what it does not name is as above"
                rows={4}
                placeholder={`${parts[0]?.key}\n${textOf(row[parts[0]?.key ?? ''])}`}
                value={csv}
                onChange={setCSV}
              />
            </details>
            {typeof rows === 'string' && <Problem error={new Error(rows)} />}
            {ask.error && <Problem error={ask.error} />}
            <div className="flex justify-end">
              <Button look="go" type="submit" disabled={!ready || ask.isPending}>
                {ask.isPending ? 'Asking…' : 'Ask'}
              </Button>
            </div>
          </form>
        </Panel>
        <Panel title={ask.data ? 'What they answered' : 'What it answered to the sample'}>
          <Answers tried={shown.tried} rows={shown.rows} />
        </Panel>
      </div>
      <Panel title="What changes when one input moves">
        <Sweep
          environment={environment}
          versions={versions}
          inputs={inputs}
          parts={parts}
          columns={columns}
          row={row}
        />
      </Panel>
      <Panel title="Why it answers so">
        <Why environment={environment} versions={versions} inputs={inputs} row={row} />
      </Panel>
      <CodePanel
        endpoint={endpoint || v.model}
        known={endpoint !== ''}
        request={requestOf(inputs, typeof rows === 'string' ? [row] : rows)}
      />
    </>
  )
}
