import { Download, TriangleAlert } from 'lucide-react'
import type { Version } from '../api/client'
import { bytes } from '../ui/format'
import { Ago, Empty, Facts, Panel, Tag } from '../ui/parts'

export function Files({ version: v }: { version: Version }) {
  return (
    <>
      {v.artifacts.map((a) => (
        <Panel key={a.name} title={a.name} aside={<Tag tone="quiet">{a.contents.format}</Tag>}>
          {a.contents.unsafe && (
            <p className="text-bad mb-2 flex items-center gap-2">
              <TriangleAlert size={15} aria-hidden /> <b>unsafe to load:</b> {a.contents.unsafe}
            </p>
          )}
          <Facts
            empty=""
            rows={[
              ['size', bytes(a.size)],
              [
                'sha256',
                <code key="d" className="text-[12.5px] break-all">
                  {a.digest}
                </code>,
              ],
              [
                'bytes',
                a.stored ? (
                  <a
                    key="g"
                    className="inline-flex items-center gap-1.5 underline underline-offset-3"
                    href={`/api/v1/versions/${v.ref}/artifacts/${encodeURIComponent(a.name)}`}
                    download
                  >
                    kept here <Download size={13} />
                  </a>
                ) : (
                  `only at ${a.address ?? ''}`
                ),
              ],
              ...(a.stored && a.address ? [['came from', a.address] as const] : []),
              ...(a.contents.facts ?? []).map((f) => [f.name, f.value] as const),
              ...(a.contents.tensor_count
                ? [
                    [
                      'tensors',
                      `${a.contents.tensor_count} with ${(a.contents.values ?? 0).toLocaleString('en')} values`,
                    ] as const,
                  ]
                : []),
              ...(a.contents.file_count
                ? [['files in it', `${a.contents.file_count}, ${bytes(a.contents.expanded ?? 0)} unpacked`] as const]
                : []),
            ]}
          />
          {a.contents.remarks?.map((r) => (
            <p key={r} className="text-ink-2 mt-1">
              {r}
            </p>
          ))}
          {(a.contents.tensors || a.contents.files) && (
            <details className="mt-2">
              <summary className="text-ink-2 cursor-pointer">
                {a.contents.tensors ? 'its tensors' : 'its files'}
              </summary>
              <ul className="mt-1 columns-1 gap-8 text-[13px] md:columns-2">
                {a.contents.tensors?.map((t) => (
                  <li key={t.name}>
                    {t.name}{' '}
                    <span className="text-ink-2">
                      {t.datatype} [{t.shape.join(' × ')}]
                    </span>
                  </li>
                ))}
                {a.contents.files?.map((f) => (
                  <li key={f.name}>
                    {f.name} <span className="text-ink-2">{bytes(f.size)}</span>
                  </li>
                ))}
              </ul>
            </details>
          )}
        </Panel>
      ))}
      <Panel title="Attachments">
        {!v.attachments || v.attachments.length === 0 ? (
          <Empty command={`innerladder attach ${v.ref} residuals.png`}>No documents, notebooks or pictures yet.</Empty>
        ) : (
          <div className="grid gap-4 md:grid-cols-2">
            {v.attachments.map((a) => {
              const href = `/api/v1/versions/${v.ref}/attachments/${encodeURIComponent(a.name)}`
              return (
                <figure key={a.name} className="min-w-0">
                  {a.media.startsWith('image/') && (
                    <img src={href} alt={a.name} className="border-line max-h-72 rounded-md border" />
                  )}
                  <figcaption className="mt-1">
                    <a className="underline underline-offset-3" href={href}>
                      {a.name}
                    </a>{' '}
                    <span className="text-ink-2">
                      {a.media}, {bytes(a.size)}, by {a.added_by}, <Ago at={a.added_at} />
                    </span>
                  </figcaption>
                </figure>
              )
            })}
          </div>
        )}
      </Panel>
    </>
  )
}
