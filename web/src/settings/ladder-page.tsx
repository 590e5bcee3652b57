import { useSearchParams } from 'react-router'
import { useLadder } from '../api/ladder'
import { useProjects } from '../api/queries'
import { Choice } from '../ui/overlays'
import { Ago, Loaded } from '../ui/parts'
import { Editor } from './ladder-editor'
import { Revisions } from './ladder-preview'

/** The ladder of a project: its rungs and gates, changed with a view of what would pass. */
export function LadderPage() {
  const [params, setParams] = useSearchParams()
  const projects = useProjects().data?.items ?? []
  const project = params.get('project') ?? projects.find((p) => p.models > 0)?.name ?? projects[0]?.name ?? ''
  const ladder = useLadder(project)
  if (!project) return null
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <Choice
          label="Project"
          value={project}
          options={projects.map((p) => ({ value: p.name, text: p.name }))}
          onChange={(p) => setParams({ project: p }, { replace: true })}
        />
        <Loaded query={ladder}>
          {(l) => (
            <span className="text-ink-2">
              {l.number === 0 ? (
                'the default ladder, which serves until another is set'
              ) : (
                <>
                  revision {l.number}, {l.author} <Ago at={l.made_at ?? ''} />: “{l.reason}”
                </>
              )}
            </span>
          )}
        </Loaded>
      </div>
      <Loaded query={ladder}>{(l) => <Editor key={`${project} ${l.number}`} project={project} saved={l} />}</Loaded>
      <Revisions project={project} />
    </>
  )
}
