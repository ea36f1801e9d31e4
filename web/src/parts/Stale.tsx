import { Button } from 'antd'
import { useState } from 'react'
import { Refused } from '../api/client'
import { Notice } from './Notice'

/** Whether a change was refused since somebody else changed the same meanwhile. */
export function isStale(error: Error | null): boolean {
  return error instanceof Refused && error.problem.status === 412
}

/** One thing that is another than it was. */
export interface Difference {
  title: string
  was: string
  now: string
}

/** What differs between two states of an object, by the lines that tell of it. */
export function differences<T>(was: T, now: T, lines: Record<string, (o: T) => string>): Difference[] {
  return Object.entries(lines)
    .map(([title, says]) => ({ title, was: says(was), now: says(now) }))
    .filter((d) => d.was !== d.now)
}

/**
 * What a form is of, as it was when the form was opened, and what somebody else has changed of it
 * since: the form sends nothing before it goes on from there.
 */
export function useSeen<T>(now: T, lines: Record<string, (o: T) => string>) {
  const [seen, setSeen] = useState(now)
  return { seen, changed: differences(seen, now, lines), goOn: () => setSeen(now) }
}

/** Says what somebody else changed of what a form is of, and lets it go on from there. */
export function Raced({
  race,
  onGo,
}: {
  race: { changed: Difference[]; goOn: () => void }
  onGo: () => void
}) {
  if (race.changed.length === 0) return null
  return (
    <Stale
      changed={race.changed}
      onTakeOver={() => {
        race.goOn()
        onGo()
      }}
    />
  )
}

/** Says what somebody else changed while a form was open, and that nothing of ours was. */
export function Stale({ changed, onTakeOver }: { changed: Difference[]; onTakeOver: () => void }) {
  return (
    <Notice title="Somebody changed it while you looked, so nothing of yours was changed.">
      <ul className="plain">
        {changed.map((d) => (
          <li key={d.title}>
            {d.title} was {d.was} and is {d.now}
          </li>
        ))}
        {changed.length === 0 && <li>It is being read again…</li>}
      </ul>
      <Button size="small" disabled={changed.length === 0} onClick={onTakeOver}>
        Go on from how it is now
      </Button>
    </Notice>
  )
}
