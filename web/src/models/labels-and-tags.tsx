import { Tag } from '../ui/parts'

/** The movable names of a version, then its tags. */
export function LabelsAndTags({ labels, tags }: { labels?: string[]; tags?: string[] }) {
  return (
    <span className="inline-flex flex-wrap gap-1">
      {labels?.map((l) => (
        <Tag key={l} tone="trial">
          {l}
        </Tag>
      ))}
      {tags?.map((t) => (
        <Tag key={t} tone="quiet">
          {t}
        </Tag>
      ))}
    </span>
  )
}
