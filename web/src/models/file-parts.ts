import { type Part } from '../api/uploads'

export const parts: Record<Part, string> = {
  artifact: 'the model',
  sample: 'example rows',
  reference: 'rows of the reference profile',
  card: 'model card',
  requirements: 'packages it needs',
  attachment: 'attachment',
  answers: 'known answers',
  report: 'evidence: a report',
}

/** What a file is most likely for, by its name. */
export function partOf(name: string): Part {
  const lower = name.toLowerCase()
  if (/answers.*\.(csv|parquet|jsonl|ndjson)$/.test(lower)) return 'answers'
  if (/\.(csv|parquet|jsonl|ndjson)$/.test(lower)) return 'sample'
  if (/\.(md|markdown)$/.test(lower)) return 'card'
  if (/requirements.*\.txt$/.test(lower)) return 'requirements'
  if (/\.(png|jpe?g|gif|webp|pdf|ipynb)$/.test(lower)) return 'attachment'
  if (/(test|junit|report).*\.xml$|(evaluation|report|load|shadow).*\.json$/.test(lower)) return 'report'
  return 'artifact'
}
