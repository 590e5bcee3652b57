const thin = '\u202f'

/** A whole number in groups of three: 262 114. */
export const count = (n: number) =>
  Math.round(n)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, thin)

/** A number as short as it can be read. */
export const number = (x: number, digits = 4) => String(Number(x.toPrecision(digits)))

/** A share of one as per cent. */
export const percent = (share: number, digits = 2) => `${(share * 100).toFixed(digits)}${thin}%`

/** Basis points as per cent: 90 %, 12.5 %. */
export const share = (basisPoints: number) => `${Number((basisPoints / 100).toFixed(2))}${thin}%`

/** What a lane has: a share, or copies of one. */
export const laneShare = (l: { kind: string; share: number }) =>
  l.kind === 'shadow' ? `copies of ${share(l.share)}` : share(l.share)

export const ms = (x: number) => `${x < 10 ? x.toFixed(1) : x.toFixed(0)}${thin}ms`

export function bytes(n: number): string {
  if (n < 1024) return `${n} B`
  const unit = Math.min(4, Math.floor(Math.log(n) / Math.log(1024)))
  return `${(n / 1024 ** unit).toFixed(1)} ${['B', 'KiB', 'MiB', 'GiB', 'TiB'][unit] ?? ''}`
}

export function ago(at: Date, now: Date): string {
  const s = Math.max(0, (now.getTime() - at.getTime()) / 1000)
  if (s < 60) return `${Math.floor(s)} s ago`
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} days ago`
}

export const exact = (at: Date) => at.toISOString().replace('T', ' ').replace('Z', ' UTC')

/** The version's own part of a ref: @7 of heat-demand@7. */
export const short = (ref: string) => ref.slice(ref.indexOf('@'))

/** What was typed with spaces, commas or line breaks between. */
export const itemsIn = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** A dot or underscore name in words. */
export const words = (name: string) => name.replace(/[_.]/g, ' ')

/** A signal in words, whose column, output or own name stays as it is. */
export function signalText(signal: string): string {
  const [kind = '', ...name] = signal.split('.')
  if (kind === 'custom' && name.length > 0) return name.join('.')
  return name.length > 0 ? `${words(kind)} of ${name.join('.')}` : words(kind)
}

/** A moment on an axis, UTC: 14:03, or with its day 27 14:03. */
export const clock = (at: number, day = false) =>
  new Date(at)
    .toISOString()
    .slice(day ? 8 : 11, 16)
    .replace('T', ' ')
