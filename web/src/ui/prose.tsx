import { lazy, Suspense } from 'react'

const Marked = lazy(() => import('./markdown').then((m) => ({ default: m.Marked })))

/** What somebody wrote in a comment, in Markdown; @NAME stands out. Until it can be read it is as it was written. */
export function Prose({ text }: { text: string }) {
  return (
    <span className="prose-text">
      <Suspense fallback={text}>
        <Marked text={text.replace(/(?<![\w@.`-])(@[a-z0-9][a-z0-9-]*)/g, '**$1**')} />
      </Suspense>
    </span>
  )
}
