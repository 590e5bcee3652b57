import { lazy, Suspense } from 'react'

const Marked = lazy(() => import('./markdown').then((m) => ({ default: m.Marked })))

/**
 * Markdown that somebody wrote in a comment: @NAME stands out, markup is shown as text, nothing is loaded from elsewhere.
 * Until what reads it is there, it is shown as it was written.
 */
export function Prose({ text }: { text: string }) {
  return (
    <Suspense fallback={<span className="prose-text">{text}</span>}>
      <Marked text={text} />
    </Suspense>
  )
}
