import { NavLink } from 'react-router'

const places = [
  ['/models', 'Models'],
  ['/models/versions', 'Find versions'],
  ['/models/runs', 'Runs'],
  ['/models/data', 'Data sets'],
  ['/models/jobs', 'Jobs'],
] as const

/** The places within Models. */
export function ModelPlaces() {
  return (
    <nav aria-label="Within Models" className="border-line -mt-1 flex flex-wrap gap-4 border-b">
      {places.map(([to, text]) => (
        <NavLink
          key={to}
          to={to}
          end
          className={({ isActive }) =>
            `-mb-px border-b-2 px-0.5 pb-1.5 ${isActive ? 'border-main text-ink font-semibold' : 'text-ink-2 hover:text-ink border-transparent'}`
          }
        >
          {text}
        </NavLink>
      ))}
    </nav>
  )
}
