import '@fontsource-variable/inter/wght.css'
import './style.css'
import './parts.css'
import './pages.css'
import './forms.css'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { lazy, StrictMode, Suspense, useEffect, useState } from 'react'
import { createRoot } from 'react-dom/client'
import { token } from './api/client'
import { SignIn } from './pages/SignIn'
import { useChosenMode } from './parts/mode'
import { bring } from './routes'

// The sign-in is there at once; what is behind it comes meanwhile, all of it at the same time.
const shell = () => import('./Shell')
const Shell = lazy(async () => ({ default: (await shell()).Shell }))
if (token.get() !== null) {
  void shell()
  bring(window.location.pathname)
}

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

/** Who is signed in, in this tab and all others of the browser. */
function useSession() {
  const [signedIn, setSignedIn] = useState(() => token.get() !== null)
  // The pages stay as they are below a sign-in that ended, so that what was typed is kept.
  const [ended, setEnded] = useState(false)
  useEffect(() => {
    const out = () => setEnded(true)
    window.addEventListener('signed-out', out)
    const forget = token.onOtherTab(() => {
      const there = token.get() !== null
      if (there) setEnded(false)
      setSignedIn(there)
    })
    return () => {
      window.removeEventListener('signed-out', out)
      forget()
    }
  }, [])
  const signOut = () => {
    token.clear()
    queries.clear()
    setSignedIn(false)
  }
  const signIn = () => {
    setEnded(false)
    setSignedIn(true)
    void queries.invalidateQueries()
  }
  return { signedIn, ended, signIn, signOut }
}

function Console() {
  const [mode, toggleMode] = useChosenMode()
  const { signedIn, ended, signIn, signOut } = useSession()
  return (
    <>
      {signedIn && ended && (
        <div className="over" role="dialog" aria-modal="true" aria-label="Sign in again">
          <SignIn
            onDone={signIn}
            why="The service does not know this token any more. What stands on the page is kept."
          />
        </div>
      )}
      {signedIn ? (
        <Suspense fallback={<main className="page" id="main" aria-busy="true" />}>
          <Shell mode={mode} listening={!ended} nonce={nonce} onMode={toggleMode} onSignOut={signOut} />
        </Suspense>
      ) : (
        <SignIn onDone={signIn} />
      )}
    </>
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
