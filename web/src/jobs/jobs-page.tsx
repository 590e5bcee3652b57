import { useMemo, useState } from 'react'
import { useNavigate } from 'react-router'

import { useJobs, useScore, type Job } from '../api/jobs'
import { useMay } from '../api/people'
import { ModelPlaces } from '../models/places'
import { DataTable, type Columns } from '../ui/data-table'
import { Form, FormSheet } from '../ui/form'
import { count } from '../ui/format'
import { Ago, Button, Empty, Field, inputLook, Loaded, PageHead, Panel, Ref, TextField, To } from '../ui/parts'
import { JobState } from './progress'
import { Schedules } from './schedules'

/** All jobs, newest first. */
export function JobsPage() {
  const may = useMay('inspect')
  return (
    <>
      <PageHead title="Jobs" sub="versions that are asked about whole tables">
        {may && (
          <FormSheet title="Score a table" trigger={<Button look="go">Score a table</Button>}>
            {(done) => <ScoreForm done={done} />}
          </FormSheet>
        )}
      </PageHead>
      <ModelPlaces />
      <Panel>
        <JobTable />
      </Panel>
      <Schedules />
    </>
  )
}

/** Jobs about a version, where there are some. */
export function JobsAbout({ version }: { version: string }) {
  const jobs = useJobs(version)
  if (!jobs.data || jobs.data.items.length === 0) return null
  return (
    <Panel title="Jobs that ask it" aside={<To to="/models/jobs">all jobs</To>}>
      <JobTable version={version} />
    </Panel>
  )
}

function JobTable({ version }: { version?: string }) {
  const columns = useMemo<Columns<Job>>(
    () => [
      {
        accessorKey: 'id',
        header: 'job',
        cell: ({ row: { original: j } }) => (
          <>
            <To to={`/models/jobs/${j.id}`}>{j.id}</To> <JobState job={j} />
            <div className="text-ink-2 text-[12.5px]">{j.scoring?.data ?? j.scoring?.table}</div>
          </>
        ),
      },
      {
        id: 'asks',
        header: 'asks',
        enableSorting: false,
        cell: ({ row: { original: j } }) => j.scoring && <Ref to={j.scoring.version} />,
      },
      { id: 'answered', header: 'answered', cell: ({ row }) => count(row.original.progress.answered) },
      { id: 'aside', header: 'put aside', cell: ({ row }) => count(row.original.progress.put_aside) },
      { accessorKey: 'by', header: 'by' },
      { accessorKey: 'begun_at', header: 'begun', cell: ({ row }) => <Ago at={row.original.begun_at} /> },
    ],
    [],
  )
  return (
    <Loaded query={useJobs(version)}>
      {(list) =>
        list.items.length === 0 ? (
          <Empty command="innerladder score heat-demand@2 winter.csv -o answers.parquet">
            Nothing was asked yet. Have a version predict all rows of a table:
          </Empty>
        ) : (
          <DataTable label="Jobs" data={list.items} columns={columns} />
        )
      }
    </Loaded>
  )
}

function ScoreForm({ done }: { done: () => void }) {
  const [asked, setAsked] = useState('')
  const [environment, setEnvironment] = useState('')
  const [file, setFile] = useState<File>()
  const score = useScore()
  const go = useNavigate()
  return (
    <Form
      submit={score.isPending ? 'Sending the table …' : 'Begin'}
      pending={score.isPending || !file || asked === ''}
      error={score.error}
      onSubmit={() => {
        if (!file) return
        score.mutate(
          { asked: asked.trim(), environment: environment.trim(), file },
          {
            onSuccess: (j) => {
              done()
              void go(`/models/jobs/${j.id}`)
            },
          },
        )
      }}
    >
      <TextField
        label="Version or endpoint that is asked"
        name="asked"
        required
        autoFocus
        placeholder="heat-demand@2"
        value={asked}
        onChange={setAsked}
      />
      <TextField
        label="Environment, where the version is placed in several"
        name="environment"
        value={environment}
        onChange={setEnvironment}
      />
      <Field label="Table: CSV with a header line, JSON lines or Parquet, whose columns are named as the inputs are">
        <input
          className={inputLook}
          type="file"
          name="table"
          accept=".csv,.jsonl,.ndjson,.json,.parquet"
          required
          onChange={(event) => setFile(event.target.files?.[0])}
        />
      </Field>
      <p className="text-ink-2 text-[13px]">
        A version that is placed nowhere is started for the job. No lane counts what it is asked.
      </p>
    </Form>
  )
}
