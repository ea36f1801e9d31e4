import { useCallback, useEffect, useRef, useState } from 'react'
import type { JournalEntry } from '../api/client'

// Turns that are told to who listens besides what came out badly.
const turns = new Set([
  'rollout.started',
  'rollout.done',
  'group.frozen',
  'group.thawed',
  'group.healing-resumed',
  'group.relapse-over',
  'zone.recovered',
  'ticket.opened',
])

/** Whether an entry of the journal matters to somebody who does not look at the page. */
export const matters = (e: JournalEntry) => e.outcome === 'bad' || turns.has(e.kind)

// What happens within this time is said at once, so that a storm is one sentence, in ms.
const gathered = 3000

/** What is said of several entries: the first in full, and how many more there are. */
export function sayAll(first: JournalEntry, more: number): string {
  return [
    first.text,
    ...(first.because ? [`Because ${first.because}.`] : []),
    ...(more > 0 ? [`And ${more.toLocaleString()} more.`] : []),
  ].join(' ')
}

/** Gathers what matters of the journal, and returns what is to be said of it. */
export function useAnnounced(): [said: string, hear: (e: JournalEntry) => void] {
  const [said, setSaid] = useState('')
  const heard = useRef<{ first: JournalEntry; more: number } | null>(null)
  const due = useRef<ReturnType<typeof setTimeout>>(undefined)
  useEffect(() => () => clearTimeout(due.current), [])
  const hear = useCallback((e: JournalEntry) => {
    if (!matters(e)) return
    if (heard.current) {
      heard.current.more++
      return
    }
    const all = (heard.current = { first: e, more: 0 })
    due.current = setTimeout(() => {
      heard.current = null
      setSaid(sayAll(all.first, all.more))
    }, gathered)
  }, [])
  return [said, hear]
}

/** Says it to who listens; whoever looks sees it on the page. */
export function Announced({ said }: { said: string }) {
  return (
    <p className="unseen" role="status" data-testid="announced">
      {said}
    </p>
  )
}
