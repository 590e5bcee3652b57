import { useOwnProject } from '../api/people'
import { useProjects } from '../api/queries'
import { Choice } from '../ui/overlays'
import { Problem } from '../ui/parts'

const none = 'ask me'

/** Where what somebody adds goes when they name no project. */
export function OwnProject({ chosen }: { chosen: string }) {
  const projects = useProjects().data?.items.map((p) => p.name) ?? []
  const set = useOwnProject()
  if (projects.length < 2) return null
  return (
    <div className="border-line mt-1 flex items-center justify-between gap-4 border-t pt-2">
      <span className="text-ink-2">what you add without naming a project goes to</span>
      <Choice
        label="Your project"
        value={chosen || none}
        options={[none, ...projects].map((p) => ({ value: p, text: p }))}
        onChange={(p) => set.mutate(p === none ? '' : p)}
      />
      {set.error && <Problem error={set.error} />}
    </div>
  )
}
