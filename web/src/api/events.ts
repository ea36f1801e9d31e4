import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { concerned } from './concerns'
import { ended, token, type JournalEntry } from './client'

/** How the page hears of changes; what is shown without is as of when that ended. */
export type Connection = { state: 'connecting' } | { state: 'live' } | { state: 'lost'; since: string }

/**
 * Follows the service's events, has what they concern read again, and lets hear of each entry of
 * the journal. Returns whether the stream is open.
 */
export function useEvents(signedIn: boolean, hear: (e: JournalEntry) => void): Connection {
  const client = useQueryClient()
  const [connection, setConnection] = useState<Connection>({ state: 'connecting' })
  useEffect(() => {
    if (!signedIn) return
    const stop = new AbortController()
    let due: ReturnType<typeof setTimeout> | undefined
    let heard: (JournalEntry | undefined)[] = []
    // What happens together is read together.
    const changed = (entry?: JournalEntry) => {
      heard.push(entry)
      if (entry) hear(entry)
      due ??= setTimeout(() => {
        const entries = heard
        due = undefined
        heard = []
        void client.invalidateQueries({
          queryKey: ['live'],
          predicate: ({ queryKey }) => entries.some((e) => !e || concerned(queryKey, e)),
        })
      }, 120)
    }
    void follow(stop.signal, changed, setConnection)
    return () => {
      stop.abort()
      clearTimeout(due)
    }
  }, [client, signedIn, hear])
  return connection
}

async function follow(
  signal: AbortSignal,
  changed: (entry?: JournalEntry) => void,
  say: (c: Connection) => void,
) {
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
            changed(entryOf(block))
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

/** The entry of the journal in an event; undefined when it is none, so that all may be other. */
function entryOf(block: string): JournalEntry | undefined {
  try {
    const data = JSON.parse(/^data: (.*)$/m.exec(block)?.[1] ?? '') as Partial<JournalEntry>
    return typeof data.kind === 'string' ? (data as JournalEntry) : undefined
  } catch {
    return undefined
  }
}
