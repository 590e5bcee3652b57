import { useState } from 'react'

import type { Evidence, Version, Vouchers } from '../api/client'
import { useMay } from '../api/people'
import { useAttachEvidence, useEvidence, useVouchers } from '../api/ladder'
import { exact, words } from '../ui/format'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Ago, Button, Empty, Field, Loaded, Panel, Tag, To } from '../ui/parts'
import { EvidenceDrawing } from './evidence-drawing'
import { ProveSheet } from './prove-sheet'

const kinds = [
  'tests',
  'evaluation',
  'load',
  'shadow',
  'replay',
  'check',
  'robustness',
  'importance',
  'document',
  'picture',
] as const

/** The reports of a version, and who vouched for it. */
export function EvidenceView({ version: v }: { version: Version }) {
  const found = useEvidence(v.ref)
  const may = useMay('register', v.project)
  return (
    <>
      <Panel
        title="Evidence"
        aside={
          may && (
            <span className="flex gap-2">
              <AttachSheet version={v} />
              <ProveSheet version={v} />
            </span>
          )
        }
      >
        <Loaded query={found}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command={`innerladder attach ${v.ref} -kind tests report.xml`}>
                No report is attached yet: tests, an evaluation, a load test, a document.
              </Empty>
            ) : (
              <div className="grid gap-5">
                {list.items.map((e, i) => (
                  <div key={e.id} id={e.id} className="border-line min-w-0 border-t pt-3 first:border-0 first:pt-0">
                    <EvidenceHead evidence={e} older={list.items.findIndex((o) => o.kind === e.kind) < i} />
                    <EvidenceDrawing evidence={e} />
                  </div>
                ))}
              </div>
            )
          }
        </Loaded>
      </Panel>
      <VouchersPanel version={v} />
    </>
  )
}

function AttachSheet({ version: v }: { version: Version }) {
  const attach = useAttachEvidence(v.ref)
  const [kind, setKind] = useState<(typeof kinds)[number]>('tests')
  const [verdict, setVerdict] = useState('none')
  const [file, setFile] = useState<File>()
  return (
    <FormSheet title={`Attach a report to ${v.ref}`} trigger={<Button>Attach a report</Button>}>
      {(done) => (
        <Form
          submit="Attach it"
          pending={attach.isPending || !file}
          error={attach.error}
          onSubmit={() =>
            file &&
            attach.mutate(
              { file, kind, verdict: verdict === 'none' ? undefined : (verdict as 'passed') },
              { onSuccess: done },
            )
          }
        >
          <Field label="Kind">
            <Choice
              label="Kind"
              value={kind}
              options={kinds.map((k) => ({ value: k, text: k }))}
              onChange={(k) => setKind(k as 'tests')}
            />
          </Field>
          <Field label="File: JUnit XML for tests; JSON for evaluation, load and shadow">
            <input type="file" aria-label="File" onChange={(event) => setFile(event.target.files?.[0])} />
          </Field>
          <Field label="Verdict">
            <Choice
              label="Verdict"
              value={verdict}
              options={[
                { value: 'none', text: 'what the report says itself' },
                { value: 'passed', text: 'passed' },
                { value: 'failed', text: 'failed' },
              ]}
              onChange={setVerdict}
            />
          </Field>
          <p className="text-ink-2 text-[13px]">
            It cannot be changed or taken away afterwards; the newest of a kind counts.
          </p>
        </Form>
      )}
    </FormSheet>
  )
}

export function EvidenceHead({ evidence: e, older = false }: { evidence: Evidence; older?: boolean }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-3 gap-y-0.5">
      <b className="font-semibold">{e.kind}</b>
      <Tag tone={e.verdict === 'passed' ? 'main' : e.verdict === 'failed' ? 'bad' : 'quiet'}>
        {e.verdict === 'none' ? 'no verdict' : e.verdict}
      </Tag>
      {older && <Tag tone="quiet">an older one</Tag>}
      <span className="min-w-0 break-words">{e.says}</span>
      <span className="text-ink-2 text-[12.5px]">
        {e.id} ·{' '}
        <a className="underline underline-offset-3" href={`/api/v1/evidence/${e.id}/file`}>
          {e.name}
        </a>{' '}
        · {e.added_by}, <Ago at={e.added_at} />
      </span>
    </div>
  )
}

const fileStates = {
  right: 'has its bytes',
  changed: 'its bytes were changed',
  missing: 'is missing',
  elsewhere: 'is kept elsewhere; only its digest is known',
} as const

/** Who signed what about a version, checked against its bytes when one asks for it. */
function VouchersPanel({ version: v }: { version: Version }) {
  const [wanted, setWanted] = useState(false)
  const found = useVouchers(v.ref, wanted)
  return (
    <Panel
      title="Who vouched for it"
      aside={<Button onClick={() => (wanted ? void found.refetch() : setWanted(true))}>Verify</Button>}
    >
      {wanted ? (
        <Loaded query={found}>{(x) => <VouchersList vouchers={x} />}</Loaded>
      ) : (
        <p className="text-ink-2">
          Every answer to a promotion is signed. Verifying reads all files anew and checks each signature against them.
        </p>
      )}
    </Panel>
  )
}

function VouchersList({ vouchers: x }: { vouchers: Vouchers }) {
  return (
    <>
      <p className={x.sound ? 'text-main font-semibold' : 'text-bad font-semibold'}>
        {x.sound ? '✓ Everything is genuine and fits.' : '✕ Not everything fits.'}
      </p>
      <ul className="mt-2 grid gap-1">
        {x.files.map((f) => (
          <li key={f.name} className={f.state === 'right' || f.state === 'elsewhere' ? '' : 'text-bad'}>
            {f.name} {fileStates[f.state]}
            {f.read_at && <span className="text-ink-2">, read at {exact(new Date(f.read_at)).slice(0, 16)} UTC</span>}
          </li>
        ))}
        {x.statements.map((s, i) => (
          <li key={i} className="border-line border-t pt-1.5">
            <To to={`/reviews/${s.promotion}`}>{s.promotion}</To> <b className="font-medium">{s.by}</b> said{' '}
            {words(s.answer)} for {s.to}{' '}
            <span className="text-ink-2">
              {exact(new Date(s.at)).slice(0, 16)} UTC {s.note && `“${s.note}”`}
            </span>{' '}
            <Tag tone={s.genuine && s.fits ? 'main' : 'bad'}>
              {s.genuine ? (s.fits ? 'genuine, fits' : 'does not fit') : 'not genuine'}
            </Tag>{' '}
            {!s.counts && <Tag tone="quiet">does not count any more</Tag>}
            <div className="text-ink-2 text-[12.5px] break-all">
              {s.key_owner === s.by ? 'own key' : s.key_owner ? 'key of the service' : 'unknown key'} {s.key}{' '}
              {s.problems?.join('; ')}
            </div>
          </li>
        ))}
        {x.statements.length === 0 && <li className="text-ink-2">Nobody has answered a promotion of it.</li>}
      </ul>
    </>
  )
}
