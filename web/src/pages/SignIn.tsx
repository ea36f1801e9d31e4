import { useState, type SyntheticEvent } from 'react'
import { Refused, signIn } from '../api/client'
import { useTitle } from '../parts/title'

/** Asks for a token; made of plain elements, so that it is there at once. */
export function SignIn({ onDone, why }: { onDone: () => void; why?: string }) {
  const [secret, setSecret] = useState('')
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  useTitle('Sign in')
  const submit = async (e: SyntheticEvent) => {
    e.preventDefault()
    if (secret.trim() === '') {
      setWrong('Paste the token here.')
      return
    }
    setBusy(true)
    try {
      await signIn(secret.trim())
      onDone()
    } catch (err) {
      setWrong(err instanceof Refused ? err.message : 'The service is not reached.')
    } finally {
      setBusy(false)
    }
  }
  return (
    <main className="sign-in" id="main">
      <h1>Unitas</h1>
      {why && <p className="waiting">▲ {why}</p>}
      <p className="quiet">
        Sign in with a token. The service wrote the first one to the file <code>token</code> in its data
        directory when it first started.
      </p>
      <form onSubmit={(e) => void submit(e)} noValidate>
        <input type="text" autoComplete="username" value="token" readOnly hidden />
        <label htmlFor="secret">Token</label>
        <input
          id="secret"
          name="secret"
          type="password"
          autoComplete="current-password"
          autoFocus
          value={secret}
          aria-invalid={wrong !== ''}
          aria-describedby="wrong"
          onChange={(e) => {
            setSecret(e.target.value)
            setWrong('')
          }}
        />
        <p id="wrong" className="trouble" role="alert">
          {wrong && `▲ ${wrong}`}
        </p>
        <button type="submit" disabled={busy}>
          {busy ? 'Signing in…' : 'Sign in'}
        </button>
      </form>
    </main>
  )
}
