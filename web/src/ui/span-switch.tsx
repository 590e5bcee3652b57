import { Switchboard } from './overlays'
import { spans, type Span } from './spans'

/** Chooses how far back is looked, between two spans; nothing is chosen where another time is looked at. */
export function SpanSwitch({
  value,
  least,
  most,
  onChange,
}: {
  value: Span | undefined
  least: Span
  most: Span
  onChange: (span: Span) => void
}) {
  return (
    <Switchboard
      label="How far back"
      value={value ?? ''}
      options={spans.slice(spans.indexOf(least), spans.indexOf(most) + 1)}
      onChange={(s) => onChange(s as Span)}
    />
  )
}
