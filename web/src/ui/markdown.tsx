import Markdown from 'react-markdown'
import remarkGfm from 'remark-gfm'

/** Markdown as it is meant. */
export function Marked({ text }: { text: string }) {
  return (
    <span className="prose-text">
      <Markdown
        remarkPlugins={[remarkGfm]}
        components={{
          img: ({ alt }) => <span className="text-ink-3">[picture: {alt}]</span>,
          a: ({ href, children }) => (
            <a href={href} rel="noreferrer noopener" target="_blank" className="underline underline-offset-3">
              {children}
            </a>
          ),
        }}
      >
        {text.replace(/(?<![\w@.`-])(@[a-z0-9][a-z0-9-]*)/g, '**$1**')}
      </Markdown>
    </span>
  )
}
