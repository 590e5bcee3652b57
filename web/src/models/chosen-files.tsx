import { Check, FileUp, Trash2 } from 'lucide-react'
import { type Part } from '../api/uploads'
import type { LookedAt } from '../api/client'
import { bytes, percent } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Problem, Tag } from '../ui/parts'
import { parts } from './file-parts'
import { SignatureTable } from './signature-table'
import { classes } from '../ui/classes'

export interface Chosen {
  key: number
  file: File
  part: Part
  share: number
  id?: string
  looked?: LookedAt
  error?: unknown
}

/** What was read off a file, in short; the columns of a sample are edited elsewhere. */
export function Looked({ looked: l, columns }: { looked: LookedAt; columns: boolean }) {
  const facts = l.contents?.facts?.slice(0, 6) ?? []
  return (
    <div className="mt-1.5 grid gap-1.5 text-[13px]">
      <div className="text-ink-2 flex flex-wrap gap-x-3 gap-y-1">
        {l.contents && <Tag tone={l.contents.unsafe ? 'bad' : 'quiet'}>{l.contents.format}</Tag>}
        {l.contents?.unsafe && <span className="text-bad">{l.contents.unsafe}</span>}
        {facts.map((f) => (
          <span key={f.name}>
            {f.name} {f.value.slice(0, 80)}
          </span>
        ))}
        {l.rows !== undefined && l.rows > 0 && (
          <span>
            {l.rows} rows{l.rows < 200 ? ', too few for a reference profile' : ''}
          </span>
        )}
        {l.card && (
          <span>
            {l.card.sections?.length ?? 0} sections{l.card.licence && `, licence ${l.card.licence}`}
          </span>
        )}
        {l.report && <Tag tone="main">{l.report}</Tag>}
        {l.says && <span>{l.says}</span>}
        {l.dependencies && <span>{l.dependencies.length} packages</span>}
        {l.remarks?.map((r) => (
          <span key={r}>{r}</span>
        ))}
      </div>
      {columns && l.signature && <SignatureTable signature={l.signature} />}
    </div>
  )
}

/** Where files are dropped or chosen. */
export function DropZone({ onAdd: add }: { onAdd: (list: FileList | null) => void }) {
  return (
    <label
      className={classes(
        'border-line-strong text-ink-2 hover:border-main grid cursor-pointer',
        'place-items-center gap-1 rounded-md border-[1.5px] border-dashed px-4',
        'py-6',
      )}
      onDragOver={(event) => event.preventDefault()}
      onDrop={(event) => {
        event.preventDefault()
        add(event.dataTransfer.files)
      }}
    >
      <FileUp size={20} aria-hidden />
      <span>
        Drop the model, example rows, a card, requirements, pictures here, or <u>choose</u>
      </span>
      <input
        type="file"
        multiple
        className="sr-only"
        aria-label="Files"
        onChange={(event) => add(event.target.files)}
      />
    </label>
  )
}

/** A file that was chosen: how far it has come, what it is, what was read off it. */
export function ChosenFile({
  file: f,
  onPart,
  onLeaveOut,
}: {
  file: Chosen
  onPart: (part: Part) => void
  onLeaveOut: () => void
}) {
  return (
    <li className="border-line border-t pt-2">
      <div className="flex flex-wrap items-center gap-3">
        <b className="min-w-0 truncate">{f.file.name}</b>
        <span className="text-ink-2">{bytes(f.file.size)}</span>
        {f.id ? (
          <Check size={15} className="text-main" aria-label="uploaded" />
        ) : (
          !f.error && <span className="text-ink-2">{percent(f.share, 0)} sent</span>
        )}
        <span className="ml-auto flex items-center gap-2">
          <Choice
            label={`What ${f.file.name} is`}
            value={f.part}
            options={Object.entries(parts).map(([value, text]) => ({ value, text }))}
            onChange={(p) => onPart(p as Part)}
          />
          <button
            type="button"
            className="text-ink-2 cursor-pointer"
            aria-label={`Leave out ${f.file.name}`}
            onClick={onLeaveOut}
          >
            <Trash2 size={15} />
          </button>
        </span>
      </div>
      {!!f.error && <Problem error={f.error} />}
      {f.looked && <Looked looked={f.looked} columns={f.part !== 'sample'} />}
    </li>
  )
}
