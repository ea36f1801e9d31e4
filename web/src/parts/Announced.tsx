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
export function sayAll(entries: JournalEntry[]): string {
  const [first, ...more] = entries
  if (!first) return ''
  return [
    first.text,
    ...(first.because ? [`Because ${first.because}.`] : []),
    ...(more.length > 0 ? [`And ${more.length.toLocaleString()} more.`] : []),
  ].join(' ')
}

/** Gathers what matters of the journal, and returns what is to be said of it. */
export function useAnnounced(): [said: string, hear: (e: JournalEntry) => void] {
  const [said, setSaid] = useState('')
  const heard = useRef<JournalEntry[]>([])
  const due = useRef<ReturnType<typeof setTimeout>>(undefined)
  useEffect(() => () => clearTimeout(due.current), [])
  const hear = useCallback((e: JournalEntry) => {
    if (!matters(e)) return
    heard.current.push(e)
    due.current ??= setTimeout(() => {
      due.current = undefined
      setSaid(sayAll(heard.current))
      heard.current = []
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
