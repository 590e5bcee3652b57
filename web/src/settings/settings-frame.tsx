import { NavLink, Outlet } from 'react-router'

import { useMay } from '../api/people'
import { PageHead } from '../ui/parts'

/** The frame of the settings: each part for those who may change it. */
export function SettingsFrame() {
  const keeps = useMay('manage')
  const administers = useMay('administer', '*')
  const reads = useMay('read')
  const parts = [
    ['me', 'Me', true],
    ['people', 'People and roles', reads],
    ['ladders', 'Ladders', reads],
    ['connections', 'Webhooks and e-mail', keeps],
    ['service', 'The service', administers],
  ] as const
  return (
    <>
      <PageHead title="Settings" />
      <nav aria-label="Settings" className="border-line -mt-2 flex flex-wrap gap-1 border-b">
        {parts
          .filter(([, , shown]) => shown)
          .map(([to, text]) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                `px-3 py-1.5 ${isActive ? 'text-ink shadow-[inset_0_-2px_0_var(--main)]' : 'text-ink-2 hover:text-ink'}`
              }
            >
              {text}
            </NavLink>
          ))}
      </nav>
      <Outlet />
    </>
  )
}
