import { QueryClientProvider } from '@tanstack/react-query'
import { Tooltip } from 'radix-ui'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { setNonce } from 'get-nonce'
import { BrowserRouter, Route, Routes } from 'react-router'

import { newQueryClient } from './api/query-client'
import { App } from './app'
import { SignIn, Welcome } from './session/sign-in'
import './theme.css'
import { applyTheme } from './ui/theme'

// Dialogs add styles of their own while they are open; the page's rules let them with this.
const nonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content
if (nonce) setNonce(nonce)

applyTheme()

// A page that is not there any more is one of an older console: the newer one has it under another name.
window.addEventListener('vite:preloadError', () => window.location.reload())

const queryClient = newQueryClient()

const root = document.getElementById('console')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queryClient}>
        <Tooltip.Provider delayDuration={200}>
          <BrowserRouter>
            <Routes>
              <Route path="/sign-in" element={<SignIn />} />
              <Route path="/welcome" element={<Welcome />} />
              <Route path="/*" element={<App />} />
            </Routes>
          </BrowserRouter>
        </Tooltip.Provider>
      </QueryClientProvider>
    </StrictMode>,
  )
}
