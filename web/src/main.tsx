import '@fontsource-variable/inter/wght.css'
import './style.css'
import './forms.css'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { Button, ConfigProvider } from 'antd'
import { lazy, StrictMode, Suspense, useEffect, useState } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Link, NavLink, Route, Routes, useLocation } from 'react-router'
import { token } from './api/client'
import { useEvents, type Connection } from './api/events'
import { Courses } from './pages/Courses'
import { Notices } from './pages/Notices'
import { Checks } from './pages/Checks'
import { Group } from './pages/Group'
import { Groups } from './pages/Groups'
import { Image } from './pages/Image'
import { Images } from './pages/Images'
import { Instances } from './pages/Instances'
import { Listener } from './pages/Listener'
import { Listeners } from './pages/Listeners'
import { NewGroup } from './pages/NewGroup'
import { Pool } from './pages/Pool'
import { Pools } from './pages/Pools'
import { Tickets } from './pages/Tickets'
import { Services } from './pages/Services'
import { SignIn } from './pages/SignIn'
import { Template } from './pages/Template'
import { TemplateForm } from './pages/TemplateForm'
import { Templates } from './pages/Templates'
import { DrillLine } from './parts/Drills'
import { Troubles } from './parts/Troubles'
import { ModeContext, useChosenMode } from './parts/mode'
import { themeOf } from './theme'

// Charts are heavy, and few look at them.
const Costs = lazy(async () => ({ default: (await import('./pages/Costs')).Costs }))

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 500 } } })
const nonce = document.querySelector<HTMLScriptElement>('script[nonce]')?.nonce ?? ''

// Libraries make a few style elements of their own; the page's policy wants the
// nonce on each.
/* eslint-disable @typescript-eslint/no-deprecated -- of createElement only the overload for old names is */
const createElement = document.createElement.bind(document)
document.createElement = (name: string, options?: ElementCreationOptions) => {
  const made = createElement(name, options)
  if (name.toLowerCase() === 'style') made.nonce = nonce
  return made
}
/* eslint-enable @typescript-eslint/no-deprecated */

function Console() {
  const [mode, toggleMode] = useChosenMode()
  const [signedIn, setSignedIn] = useState(() => token.get() !== null)
  const connection = useEvents(signedIn)
  useEffect(() => {
    const out = () => setSignedIn(false)
    window.addEventListener('signed-out', out)
    return () => window.removeEventListener('signed-out', out)
  }, [])
  const signOut = () => {
    token.clear()
    queries.clear()
    setSignedIn(false)
  }
  return (
    <ConfigProvider theme={themeOf(mode)} csp={{ nonce }} wave={{ disabled: true }}>
      <ModeContext value={mode}>
        {signedIn ? (
          <BrowserRouter>
            <header className="bar">
              <Link to="/" className="word">
                <img src="/tide.svg" width="20" height="20" alt="" />
                Unitas
              </Link>
              <nav>
                <NavLink to="/" end>
                  Groups
                </NavLink>
                <NavLink to="/instances">Instances</NavLink>
                <NavLink to="/tickets">Tickets</NavLink>
                <NavLink to="/listeners">Listeners</NavLink>
                <NavLink to="/pools">Pools</NavLink>
                <NavLink to="/checks">Checks</NavLink>
                <NavLink to="/courses">Courses</NavLink>
                <NavLink to="/notices">Notices</NavLink>
                <NavLink to="/templates">Templates</NavLink>
                <NavLink to="/images">Images</NavLink>
                <NavLink to="/costs">Costs</NavLink>
                <NavLink to="/services">Services</NavLink>
              </nav>
              <span className="space" />
              <ConnectionWord connection={connection} />
              <Button type="text" onClick={toggleMode}>
                {mode === 'dark' ? 'Light' : 'Dark'}
              </Button>
              <Button type="text" onClick={signOut}>
                Sign out
              </Button>
            </header>
            <Troubles />
            <DrillLine />
            <Pages />
          </BrowserRouter>
        ) : (
          <SignIn onDone={() => setSignedIn(true)} />
        )}
      </ModeContext>
    </ConfigProvider>
  )
}

/** A page is made anew for every address, so that nothing of another one's stands on it. */
function Pages() {
  const { pathname } = useLocation()
  return (
    <Routes key={pathname}>
      <Route path="/" element={<Groups />} />
      <Route path="/new-group" element={<NewGroup />} />
      <Route path="/instances" element={<Instances />} />
      <Route path="/tickets" element={<Tickets />} />
      <Route path="/listeners" element={<Listeners />} />
      <Route path="/listeners/:address" element={<Listener />} />
      <Route path="/pools" element={<Pools />} />
      <Route path="/pools/:name" element={<Pool />} />
      <Route path="/courses" element={<Courses />} />
      <Route path="/notices" element={<Notices />} />
      <Route path="/checks" element={<Checks />} />
      <Route path="/services" element={<Services />} />
      <Route
        path="/costs"
        element={
          <Suspense fallback={<main className="page" />}>
            <Costs />
          </Suspense>
        }
      />
      <Route path="/groups/:name" element={<Group />} />
      <Route path="/images" element={<Images />} />
      <Route path="/images/:name/:version" element={<Image />} />
      <Route path="/templates" element={<Templates />} />
      <Route path="/templates/new" element={<TemplateForm />} />
      <Route path="/templates/:name" element={<Template />} />
      <Route path="/templates/:name/revise" element={<TemplateForm />} />
      <Route path="*" element={<NoPage />} />
    </Routes>
  )
}

function ConnectionWord({ connection }: { connection: Connection }) {
  if (connection === 'live') return <span className="quiet">● live</span>
  return (
    <span className="waiting">
      {connection === 'lost' ? '▲ the service is not reached; trying again' : '… connecting'}
    </span>
  )
}

function NoPage() {
  return (
    <main className="page">
      <p className="sentence">There is no page here.</p>
      <Link to="/">All groups</Link>
    </main>
  )
}

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Console />
      </QueryClientProvider>
    </StrictMode>,
  )
}
