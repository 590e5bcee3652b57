import { Suspense, useEffect, useRef } from 'react'
import { Inbox, LogOut, Moon, Sun, WifiOff } from 'lucide-react'
import { Link, NavLink, Outlet, useLocation } from 'react-router'

import { useMay, useMe, useSignOut } from './api/people'
import { usePromotions } from './api/ladder'
import { useAlerts, useNow } from './api/queries'
import { FollowContext, useLive } from './api/live'
import { Boundary } from './ui/boundary'
import { useReachableScrolling } from './ui/scrolling'
import { switchTheme, useTheme } from './ui/theme'

function Place({ to, count, children }: { to: string; count?: number; children: string }) {
  return (
    <NavLink
      to={to}
      end={to === '/'}
      className={({ isActive }) =>
        `flex items-center justify-between gap-2 rounded-md px-2 py-1.5 ${isActive ? 'bg-panel text-ink shadow-[inset_2px_0_0_var(--main)]' : 'text-ink-2 hover:text-ink'}`
      }
    >
      {children}
      {!!count && <span className="bg-trial-soft text-trial rounded-full px-1.5 text-[12px]">{count}</span>}
    </NavLink>
  )
}

/** After a change of page, the focus goes to its heading, so that who listens hears where they are. */
function useHeadingFocus(pathname: string) {
  const before = useRef(pathname)
  useEffect(() => {
    if (before.current === pathname) return
    before.current = pathname
    const had = document.querySelector('main h1')
    let tries = 0
    const wait = window.setInterval(() => {
      const heading = document.querySelector<HTMLElement>('main h1')
      const typing = document.activeElement?.matches('input, textarea, select')
      if (typing || ++tries > 40) window.clearInterval(wait)
      else if (heading && (heading !== had || tries > 4)) {
        heading.focus({ preventScroll: true })
        window.clearInterval(wait)
      }
    }, 50)
    return () => window.clearInterval(wait)
  }, [pathname])
}

/** The frame around every page: the places, who is signed in, and whether what is shown is live. */
export function Shell() {
  const { connected, follow } = useLive()
  const { pathname } = useLocation()
  useHeadingFocus(pathname)
  useReachableScrolling()
  const theme = useTheme()
  const me = useMe().data
  const signOut = useSignOut()
  const audits = useMay('audit')
  const trials = (useNow().data ?? []).filter((n) => n.lanes.some((l) => l.kind === 'trial')).length
  const reviews = usePromotions({ for_me: true }).data?.items.length
  const alerts = useAlerts('open').data?.items.length
  return (
    <div className="min-h-screen md:grid md:grid-cols-[176px_minmax(0,1fr)]">
      <a
        href="#content"
        className="bg-panel border-main absolute top-2 left-2 z-50 -translate-y-16 rounded-md border px-3 py-1.5 focus:translate-y-0"
      >
        Skip to the content
      </a>
      <nav
        aria-label="Places"
        className="border-line flex flex-wrap gap-0.5 border-b px-3 py-3 md:sticky md:top-0 md:h-screen md:flex-col md:border-r md:border-b-0 md:py-4.5"
      >
        <b className="mx-2 mb-1 flex w-full items-center gap-2 text-[14.5px] whitespace-nowrap md:mb-4 md:w-auto">
          <svg width="18" height="22" viewBox="0 0 18 22" aria-hidden>
            <path
              d="M3 1v20M15 1v20M3 6h12M3 11h12M3 16h12"
              fill="none"
              stroke="var(--main)"
              strokeWidth="2.4"
              strokeLinecap="round"
            />
          </svg>
          Inner Ladder
        </b>
        <Place to="/">Now</Place>
        <Place to="/models">Models</Place>
        <Place to="/endpoints" count={trials}>
          Endpoints
        </Place>
        <Place to="/environments">Environments</Place>
        <Place to="/reviews" count={reviews}>
          Reviews
        </Place>
        <Place to="/alerts" count={alerts}>
          Alerts
        </Place>
        {audits && <Place to="/audit">Audit</Place>}
        <div className="md:mt-auto">
          <Place to="/glossary">Glossary</Place>
          <Place to="/settings">Settings</Place>
        </div>
        <div className="text-ink-2 ml-auto flex items-center gap-1 md:ml-0 md:justify-between md:px-2">
          <Link to="/settings/me" className="hover:text-ink min-w-0 truncate">
            {me?.name}
          </Link>
          <span className="flex gap-1">
            <Link
              to="/inbox"
              className="hover:text-ink relative p-1"
              aria-label={me?.unread ? `Inbox, ${me.unread} unread` : 'Inbox'}
            >
              <Inbox size={16} />
              {!!me?.unread && (
                <span className="bg-trial-line text-paper absolute -top-1 -right-1 rounded-full px-1 text-[10px] leading-[14px]">
                  {me.unread}
                </span>
              )}
            </Link>
            <button
              type="button"
              className="hover:text-ink cursor-pointer p-1"
              aria-label={theme === 'dark' ? 'Light colours' : 'Dark colours'}
              onClick={switchTheme}
            >
              {theme === 'dark' ? <Sun size={16} /> : <Moon size={16} />}
            </button>
            <button
              type="button"
              className="hover:text-ink cursor-pointer p-1"
              aria-label="Sign out"
              onClick={() => signOut.mutate()}
            >
              <LogOut size={16} />
            </button>
          </span>
        </div>
      </nav>
      <main
        id="content"
        tabIndex={-1}
        className="outline-none grid min-w-0 content-start gap-5 px-4 py-5 md:px-7 md:py-5.5"
      >
        {!connected && (
          <div
            role="status"
            className="border-trial-line bg-trial-soft flex items-center gap-2 rounded-md border px-3 py-1.5"
          >
            <WifiOff size={15} aria-hidden /> The connection is lost; what you see may be old. Trying again.
          </div>
        )}
        <Boundary key={pathname}>
          <FollowContext value={follow}>
            <Suspense fallback={null}>
              <Outlet />
            </Suspense>
          </FollowContext>
        </Boundary>
      </main>
    </div>
  )
}
