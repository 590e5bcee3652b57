import { useSearchParams } from 'react-router'

import { useProjects } from '../api/queries'
import { Choice } from '../ui/overlays'
import { inputLook, PageHead, Panel } from '../ui/parts'
import { ActivityList } from './activity-list'

export function ActivityPage() {
  const [params, setParams] = useSearchParams()
  const projects = useProjects().data?.items ?? []
  const subject = params.get('subject') ?? ''
  const project = params.get('project') ?? ''
  const set = (name: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value)
        else p.delete(name)
        return p
      },
      { replace: true },
    )
  return (
    <>
      <PageHead title="Activity" sub="what happened, in words, with what people say about it">
        <Choice
          label="Project"
          value={project || 'all projects'}
          options={['all projects', ...projects.map((p) => p.name)].map((p) => ({ value: p, text: p }))}
          onChange={(p) => set('project', p === 'all projects' ? '' : p)}
        />
        <input
          className={`${inputLook} w-64!`}
          aria-label="Only about"
          placeholder="only about: heat-demand@2"
          value={subject}
          onChange={(event) => set('subject', event.target.value.trim())}
        />
      </PageHead>
      <Panel>
        <ActivityList
          key={subject + project}
          subject={subject || undefined}
          project={project || undefined}
          limit={40}
        />
      </Panel>
    </>
  )
}
