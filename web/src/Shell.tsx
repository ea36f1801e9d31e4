import { Button, ConfigProvider } from 'antd'
import { lazy, Suspense, type ComponentType } from 'react'
import { BrowserRouter, Link, Route, Routes, useLocation } from 'react-router'
import { useEvents, type Connection } from './api/events'
import { Page } from './parts/Page'
import { Announced, useAnnounced } from './parts/Announced'
import { DrillLine } from './parts/DrillLine'
import { ModeContext } from './parts/mode'
import { Troubles } from './parts/Troubles'
import { clock } from './parts/words'
import { routes } from './routes'
import { themeOf, type Mode } from './theme'

const pages: Record<string, ComponentType> = Object.fromEntries(
  Object.entries(routes).map(([path, load]) => [path, lazy(async () => ({ default: await load() }))]),
)

/** What is around every page: where one can go, and whether what is shown is live. */
export function Shell({
  mode,
  listening,
  nonce,
  onMode,
  onSignOut,
}: {
  mode: Mode
  listening: boolean
  nonce: string
  onMode: () => void
  onSignOut: () => void
}) {
  const [said, hear] = useAnnounced()
  const connection = useEvents(listening, hear)
  return (
    <ConfigProvider
      theme={themeOf(mode)}
      csp={{ nonce }}
      wave={{ disabled: true }}
      renderEmpty={() => <p className="quiet">There is nothing here.</p>}
    >
      <ModeContext value={mode}>
        <BrowserRouter>
          <a className="skip" href="#main">
            To the page
          </a>
          <header className="bar">
            <Link to="/" className="word">
              <img src="/tide.svg" width="20" height="20" alt="" />
              Unitas
            </Link>
            <Places />
            <span className="space" />
            <ConnectionWord connection={connection} />
            <Button type="text" onClick={onMode}>
              {mode === 'dark' ? 'Light' : 'Dark'}
            </Button>
            <Button type="text" onClick={onSignOut}>
              Sign out
            </Button>
          </header>
          <Announced said={said} />
          <Troubles />
          <DrillLine />
          <Pages />
        </BrowserRouter>
      </ModeContext>
    </ConfigProvider>
  )
}

/** The pages, with the one marked below which this one is. */
function Places() {
  const { pathname } = useLocation()
  return (
    <nav aria-label="Pages">
      {places.map(([to, name]) => {
        const here =
          to === '/' ? /^\/($|groups\/|new-group)/.test(pathname) : (pathname + '/').startsWith(to + '/')
        return (
          <Link key={to} to={to} className={here ? 'active' : ''} aria-current={here ? 'page' : undefined}>
            {name}
          </Link>
        )
      })}
    </nav>
  )
}

const places: [string, string][] = [
  ['/', 'Groups'],
  ['/instances', 'Instances'],
  ['/tickets', 'Tickets'],
  ['/listeners', 'Listeners'],
  ['/pools', 'Pools'],
  ['/checks', 'Checks'],
  ['/courses', 'Courses'],
  ['/notices', 'Notices'],
  ['/templates', 'Templates'],
  ['/images', 'Images'],
  ['/costs', 'Costs'],
  ['/services', 'Services'],
]

/** A page is made anew for every address, so that nothing of another one's stands on it. */
function Pages() {
  const { pathname } = useLocation()
  return (
    <Suspense fallback={<main className="page" id="main" aria-busy="true" />}>
      <Routes key={pathname}>
        {Object.entries(pages).map(([path, Page]) => (
          <Route key={path} path={path} element={<Page />} />
        ))}
        <Route path="*" element={<NoPage />} />
      </Routes>
    </Suspense>
  )
}

function ConnectionWord({ connection }: { connection: Connection }) {
  if (connection.state === 'live') return <span className="quiet">● live</span>
  if (connection.state === 'connecting') return <span className="waiting">… connecting</span>
  return (
    <span className="waiting" role="status">
      ▲ as of {clock(connection.since)}: the service is not reached; trying again
    </span>
  )
}

function NoPage() {
  return (
    <Page>
      <h1 className="sentence">There is no page here.</h1>
      <Link to="/">All groups</Link>
    </Page>
  )
}
