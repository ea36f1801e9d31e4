import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { ended, token } from './client'

/** How the page hears of changes; what is shown without is as of when that ended. */
export type Connection = { state: 'connecting' } | { state: 'live' } | { state: 'lost'; since: string }

/**
 * Follows the service's events and has everything that concerns a changed
 * group read again. Returns whether the stream is open.
 */
export function useEvents(signedIn: boolean): Connection {
  const client = useQueryClient()
  const [connection, setConnection] = useState<Connection>({ state: 'connecting' })
  useEffect(() => {
    if (!signedIn) return
    const stop = new AbortController()
    let due: ReturnType<typeof setTimeout> | undefined
    const changed = () => {
      due ??= setTimeout(() => {
        due = undefined
        void client.invalidateQueries({ queryKey: ['live'] })
      }, 120)
    }
    void follow(stop.signal, changed, setConnection)
    return () => {
      stop.abort()
      clearTimeout(due)
    }
  }, [client, signedIn])
  return connection
}

async function follow(signal: AbortSignal, changed: () => void, say: (c: Connection) => void) {
  let last: string | undefined
  let heard = true
  let lostAt = ''
  while (!signal.aborted) {
    try {
      const headers: Record<string, string> = { Authorization: `Bearer ${token.get() ?? ''}` }
      if (last) headers['Last-Event-ID'] = last
      const res = await fetch('/v1/events', { headers, signal })
      if (res.status === 401) {
        ended() // what is refused is not tried again
        return
      }
      if (!res.ok || !res.body) throw new Error(`events: ${res.status}`)
      say({ state: 'live' })
      heard = true
      changed() // whatever happened while nobody listened
      const reader = res.body.pipeThrough(new TextDecoderStream()).getReader()
      let rest = ''
      for (;;) {
        const { done, value } = await reader.read()
        if (done) break
        const blocks = (rest + value).split('\n\n')
        rest = blocks.pop() ?? ''
        for (const block of blocks) {
          const id = /^id: (.*)$/m.exec(block)?.[1]
          if (id) {
            last = id
            changed()
          }
        }
      }
    } catch {
      // told below; taken up again where it was
    }
    // eslint-disable-next-line @typescript-eslint/no-unnecessary-condition -- it may have ended while reading
    if (signal.aborted) return
    if (heard) lostAt = new Date().toISOString()
    heard = false
    say({ state: 'lost', since: lostAt })
    await new Promise((resolve) => setTimeout(resolve, 1000))
  }
}
