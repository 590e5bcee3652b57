import { useState } from 'react'

import { useGateway } from '../api/running'
import { Choice } from '../ui/overlays'
import { Button, Panel } from '../ui/parts'
import { codeFor, languages, type Language } from './code'

/** The same request as callers write it. */
export function CodePanel({ endpoint, known, request }: { endpoint: string; known: boolean; request: unknown }) {
  const gateway = useGateway().data?.url
  const [language, setLanguage] = useState<Language>('curl')
  const code = codeFor(language, `${gateway || 'http://GATEWAY'}/v2/models/${endpoint}/infer`, request)
  return (
    <Panel
      title="As callers write it"
      aside={
        <span className="flex items-center gap-2">
          <Choice
            label="Language"
            value={language}
            options={languages.map((l) => ({ value: l, text: l }))}
            onChange={(l) => setLanguage(l as Language)}
          />
          <Button className="px-2! py-0.5! text-[12.5px]" onClick={() => void navigator.clipboard.writeText(code)}>
            Copy
          </Button>
        </span>
      }
    >
      {!known && (
        <p className="text-ink-2 mb-2 text-[13px]">
          Callers name an endpoint, not a version: put its name in the place of {endpoint}.
        </p>
      )}
      <pre data-code={language} className="bg-paper border-line overflow-x-auto rounded-md border p-2 text-[12.5px]">
        {code}
      </pre>
    </Panel>
  )
}
