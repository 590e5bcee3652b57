import { Check, ChevronDown, X } from 'lucide-react'
import { getNonce } from 'get-nonce'
import { Dialog, Select, ToggleGroup } from 'radix-ui'
import type { ReactNode } from 'react'

export function Sheet({
  trigger,
  title,
  open,
  onOpenChange,
  children,
}: {
  trigger: ReactNode
  title: string
  open: boolean
  onOpenChange: (open: boolean) => void
  children: ReactNode
}) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="border-line bg-panel fixed top-1/2 left-1/2 z-20 max-h-[90vh] w-[min(560px,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded-[10px] border p-5 shadow-xl"
        >
          <div className="mb-4 flex items-start justify-between gap-4">
            <Dialog.Title className="text-[17px] font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="text-ink-2 cursor-pointer">
              <X size={18} />
            </Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

export function Choice({
  label,
  value,
  options,
  onChange,
  placeholder,
}: {
  label: string
  value: string
  options: { value: string; text: string }[]
  onChange: (value: string) => void
  placeholder?: string
}) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      <Select.Trigger
        aria-label={label}
        className="border-line-strong bg-panel inline-flex cursor-pointer items-center gap-2 rounded-md border px-2.5 py-1.5"
      >
        <Select.Value placeholder={placeholder ?? label} />
        <Select.Icon>
          <ChevronDown size={14} />
        </Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="border-line-strong bg-panel z-30 max-h-72 rounded-md border p-1 shadow-lg"
        >
          <Select.Viewport nonce={getNonce()}>
            {options.map((o) => (
              <Select.Item
                key={o.value}
                value={o.value}
                className="data-highlighted:bg-main-soft flex cursor-pointer items-center justify-between gap-4 rounded px-2.5 py-1 outline-none"
              >
                <Select.ItemText>{o.text}</Select.ItemText>
                <Select.ItemIndicator>
                  <Check size={14} />
                </Select.ItemIndicator>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  )
}

export function Switchboard({
  label,
  value,
  options,
  onChange,
}: {
  label: string
  value: string
  options: string[]
  onChange: (value: string) => void
}) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(v) => v && onChange(v)}
      className="border-line-strong inline-flex overflow-hidden rounded-md border text-[12.5px]"
    >
      {options.map((o) => (
        <ToggleGroup.Item
          key={o}
          value={o}
          className="data-[state=on]:bg-main-soft data-[state=on]:text-main text-ink-2 cursor-pointer px-2 py-0.5 data-[state=on]:font-semibold"
        >
          {o}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
