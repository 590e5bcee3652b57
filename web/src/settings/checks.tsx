/** Several of some options. */
export function Checks<Value extends string>({
  legend,
  options,
  chosen,
  onChange,
}: {
  legend: string
  options: { value: Value; text: string; what?: string }[]
  chosen: Value[]
  onChange: (chosen: Value[]) => void
}) {
  return (
    <fieldset className="grid gap-1">
      <legend className="text-ink-2 mb-1 text-[13px]">{legend}</legend>
      {options.map((o) => (
        <label key={o.value} className="flex items-baseline gap-2">
          <input
            type="checkbox"
            checked={chosen.includes(o.value)}
            onChange={(event) =>
              onChange(event.target.checked ? [...chosen, o.value] : chosen.filter((c) => c !== o.value))
            }
          />
          <span>
            {o.text} {o.what && <span className="text-ink-2 text-[12.5px]">{o.what}</span>}
          </span>
        </label>
      ))}
    </fieldset>
  )
}
