import { useState, type ReactNode } from 'react'

import { Sheet } from './overlays'
import { Button, Problem } from './parts'

/** A sheet whose form begins afresh, from what is there now, each time it is opened. */
export function FormSheet({
  title,
  trigger,
  children,
}: {
  title: string
  trigger: ReactNode
  children: (done: () => void) => ReactNode
}) {
  const [open, setOpen] = useState(false)
  return (
    <Sheet title={title} open={open} onOpenChange={setOpen} trigger={trigger}>
      {open && children(() => setOpen(false))}
    </Sheet>
  )
}

export function Form({
  submit,
  pending,
  error,
  onSubmit,
  children,
}: {
  submit: string
  pending: boolean
  error: unknown
  onSubmit: () => void
  children: ReactNode
}) {
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        onSubmit()
      }}
    >
      {children}
      {!!error && <Problem error={error} />}
      <div className="flex justify-end">
        <Button look="go" type="submit" disabled={pending}>
          {submit}
        </Button>
      </div>
    </form>
  )
}
