import { useState } from 'react'
import { classes } from '../ui/classes'

/** A text that counts when one leaves it or presses Enter, so that half a word is not judged. */
export function TextInput({
  label,
  value,
  onCommit,
  placeholder,
  narrow,
  tiny,
}: {
  label: string
  value: string
  onCommit: (v: string) => void
  placeholder?: string
  narrow?: boolean
  tiny?: boolean
}) {
  const [text, setText] = useState<string>()
  const commit = () => {
    if (text !== undefined && text !== value) onCommit(text)
    setText(undefined)
  }
  return (
    <input
      className={classes(
        'border-line-strong bg-panel text-ink min-w-0 rounded-md border px-2 py-1',
        tiny ? 'w-20' : narrow ? 'w-36' : 'flex-1 basis-48',
      )}
      aria-label={label}
      placeholder={placeholder}
      value={text ?? value}
      onChange={(event) => setText(event.target.value)}
      onBlur={commit}
      onKeyDown={(event) => {
        if (event.key === 'Enter') {
          event.preventDefault()
          commit()
        }
      }}
    />
  )
}

/** Several texts, separated by commas. */
export function Texts({
  label,
  value,
  onCommit,
  placeholder,
}: {
  label: string
  value: string[]
  onCommit: (v: string[]) => void
  placeholder?: string
}) {
  return (
    <TextInput
      label={label}
      narrow
      placeholder={placeholder}
      value={value.join(', ')}
      onCommit={(v) =>
        onCommit(
          v
            .split(',')
            .map((x) => x.trim())
            .filter(Boolean),
        )
      }
    />
  )
}

export function Tickbox({
  label,
  on,
  onChange,
  title,
}: {
  label: string
  on: boolean
  onChange: (on: boolean) => void
  title?: string
}) {
  return (
    <label className="inline-flex items-center gap-1.5 text-[13px]" title={title}>
      <input type="checkbox" checked={on} onChange={(event) => onChange(event.target.checked)} /> {label}
    </label>
  )
}
