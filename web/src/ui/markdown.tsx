import Markdown from 'react-markdown'
import remarkGfm from 'remark-gfm'

/** Markdown of somebody: markup in it is shown as text, pictures from elsewhere are not loaded. */
export function Marked({ text }: { text: string }) {
  return (
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
      {text}
    </Markdown>
  )
}
