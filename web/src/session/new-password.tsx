import { Field, inputLook } from '../ui/parts'

interface Chosen {
  password: string
  again: string
}

/** A new password, typed twice. */
export function NewPassword({ chosen, onChange }: { chosen: Chosen; onChange: (chosen: Chosen) => void }) {
  return (
    <>
      <Field label="New password, at least 10 characters">
        <input
          className={inputLook}
          type="password"
          name="password"
          autoComplete="new-password"
          required
          value={chosen.password}
          onChange={(event) => onChange({ ...chosen, password: event.target.value })}
        />
      </Field>
      <Field label="Once more">
        <input
          className={inputLook}
          type="password"
          name="again"
          autoComplete="new-password"
          required
          value={chosen.again}
          onChange={(event) => onChange({ ...chosen, again: event.target.value })}
        />
      </Field>
      {chosen.again !== '' && chosen.password !== chosen.again && <p className="text-bad">The two differ.</p>}
    </>
  )
}
