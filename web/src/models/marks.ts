import { itemsIn } from '../ui/format'

/** One NAME=VALUE a line. */
const propertiesOf = (text: string) =>
  Object.fromEntries(
    text
      .split('\n')
      .filter((l) => l.includes('='))
      .map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()]),
  )

export const linesOf = (properties: Record<string, string> | undefined) =>
  Object.entries(properties ?? {})
    .map(([k, v]) => `${k}=${v}`)
    .join('\n')

/** What has tags and properties. */
export interface Marked {
  tags?: string[]
  properties?: Record<string, string>
}

/** What must be added and removed to get from one set to another. */
export function changes(before: Marked, tags: string, properties: string) {
  const nextTags = itemsIn(tags)
  const nextProperties = propertiesOf(properties)
  return {
    add_tags: nextTags.filter((t) => !before.tags?.includes(t)),
    remove_tags: (before.tags ?? []).filter((t) => !nextTags.includes(t)),
    set_properties: Object.fromEntries(Object.entries(nextProperties).filter(([k, v]) => before.properties?.[k] !== v)),
    remove_properties: Object.keys(before.properties ?? {}).filter((k) => !(k in nextProperties)),
  }
}
