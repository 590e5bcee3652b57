import { useState } from 'react'

import { TextField } from '../ui/parts'
import { changes, linesOf, type Marked } from './marks'

/** The fields of tags and properties of something, and what was changed in them. */
export function useMarks(before: Marked) {
  const [tags, setTags] = useState(before.tags?.join(' ') ?? '')
  const [properties, setProperties] = useState(linesOf(before.properties))
  return {
    changed: () => changes(before, tags, properties),
    fields: (
      <>
        <TextField label="Tags, separated by spaces" value={tags} onChange={setTags} />
        <TextField label="Properties, one NAME=VALUE a line" rows={3} value={properties} onChange={setProperties} />
      </>
    ),
  }
}
