import type { RouteRule } from '../api/client'

/** What a rule demands, in words. */
export function ruleText(r: RouteRule): string {
  if (r.is && r.is.length > 0) return `${r.on} is ${r.is.length > 1 ? 'one of ' : ''}${r.is.join(', ')}`
  if (r.matches) return `${r.on} matches ${r.matches}`
  if (r.from === undefined) return `${r.on} is below ${r.to}`
  return r.to === undefined ? `${r.on} is ${r.from} or more` : `${r.on} is from ${r.from} to below ${r.to}`
}

/** A rule as people fill it in. */
export interface RuleDraft {
  look: string
  name: string
  how: string
  value: string
  below: string
  version: string
}

/** A rule as a form shows it. */
export function toRuleDraft(r: RouteRule): RuleDraft {
  const [look = 'key', ...name] = r.on.split(' ')
  const how = r.is && r.is.length > 0 ? 'is' : r.matches ? 'matches' : 'range'
  return {
    look,
    name: name.join(' '),
    how,
    value: how === 'is' ? (r.is ?? []).join(', ') : how === 'matches' ? (r.matches ?? '') : String(r.from ?? ''),
    below: String(r.to ?? ''),
    version: r.version,
  }
}

/** A rule as the service takes it. */
export function fromRuleDraft(d: RuleDraft): RouteRule {
  const named = d.look !== 'key' && d.look !== 'caller'
  const out: RouteRule = { on: named ? `${d.look} ${d.name.trim()}` : d.look, version: d.version }
  if (d.how === 'is') out.is = d.value.split(',').map((v) => v.trim())
  else if (d.how === 'matches') out.matches = d.value
  else {
    if (d.value.trim()) out.from = Number(d.value)
    if (d.below.trim()) out.to = Number(d.below)
  }
  return out
}
