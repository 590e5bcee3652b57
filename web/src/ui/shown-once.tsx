import { Check, Copy } from 'lucide-react'
import { useState } from 'react'

/** A secret that is shown this once, to be copied. */
export function ShownOnce({ what, secret }: { what: string; secret: string }) {
  const [copied, setCopied] = useState(false)
  return (
    <div role="status" className="border-trial-line bg-trial-soft grid gap-1.5 rounded-md border px-3 py-2">
      <span>{what} It is shown this once.</span>
      <div className="flex min-w-0 items-center gap-2">
        <code
          className="border-line bg-panel min-w-0 flex-1 rounded border px-2 py-1 text-[12.5px] break-all"
          data-secret
        >
          {secret}
        </code>
        <button
          type="button"
          aria-label="Copy it"
          className="cursor-pointer p-1"
          onClick={() => void navigator.clipboard.writeText(secret).then(() => setCopied(true))}
        >
          {copied ? <Check size={14} /> : <Copy size={14} />}
        </button>
      </div>
    </div>
  )
}
