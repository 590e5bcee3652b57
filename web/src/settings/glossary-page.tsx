import { $api } from '../api/client'
import { Loaded, PageHead, Panel } from '../ui/parts'

/** What the words of the product mean. */
export function GlossaryPage() {
  const terms = $api.useQuery('get', '/api/v1/glossary')
  return (
    <>
      <PageHead title="Glossary" sub="What the words here mean; also innerladder glossary" />
      <Panel>
        <Loaded query={terms}>
          {(all) => (
            <dl className="grid gap-x-6 gap-y-2 md:grid-cols-[max-content_1fr]">
              {all.items.map((t) => (
                <div key={t.word} className="contents">
                  <dt className="font-semibold">{t.word}</dt>
                  <dd className="text-ink-2 mb-2 md:mb-0">{t.means}</dd>
                </div>
              ))}
            </dl>
          )}
        </Loaded>
      </Panel>
    </>
  )
}
