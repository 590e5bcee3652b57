/** How far back pages look: what each span is called, and its length as the API reads it, the shortest first. */
export const windows = {
  '15 min': '15m',
  '1 h': '1h',
  '6 h': '6h',
  '1 day': '24h',
  '7 days': '168h',
  '30 days': '720h',
} as const

export type Span = keyof typeof windows

/** All spans, the shortest first. */
export const spans = Object.keys(windows) as Span[]
