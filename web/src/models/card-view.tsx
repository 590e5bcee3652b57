import type { Card } from '../api/client'
import { Facts, Tag } from '../ui/parts'
import { Marked } from '../ui/markdown'

const kinds = {
  intended_use: 'intended use',
  data: 'data',
  limits: 'limits',
  licence: 'licence',
  contact: 'contact',
} as const

const body = (text: string) => text.replace(/^---\n[\s\S]*?\n---\n?/, '')

/** A model card as it reads. Markup in it is shown as text, pictures from elsewhere are not loaded. */
export function CardView({ card }: { card: Card }) {
  const has = new Set(card.sections?.map((s) => s.kind).filter(Boolean))
  if (card.licence) has.add('licence')
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-6 lg:grid-cols-[minmax(0,1fr)_260px]">
      <div className="card-text min-w-0">
        <Marked text={body(card.text)} />
      </div>
      <aside className="grid content-start gap-4">
        <div className="flex flex-wrap gap-1.5">
          {Object.entries(kinds).map(([kind, text]) => (
            <Tag key={kind} tone={has.has(kind as keyof typeof kinds) ? 'main' : 'quiet'}>
              {has.has(kind as keyof typeof kinds) ? text : `no ${text}`}
            </Tag>
          ))}
        </div>
        {card.facts && card.facts.length > 0 && (
          <Facts empty="" rows={card.facts.map((f) => [f.name, f.value] as const)} />
        )}
      </aside>
    </div>
  )
}
