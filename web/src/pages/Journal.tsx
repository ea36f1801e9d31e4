import { Button } from 'antd'
import { memo, useState } from 'react'
import type { JournalEntry } from '../api/client'
import { useJournal } from '../api/queries'
import { Trouble } from '../parts/Trouble'
import { clock, exact } from '../parts/words'

/** What happened, newest first, each with its cause and numbers. */
export const Journal = memo(function Journal({ group }: { group: string }) {
  const [limit, setLimit] = useState(20)
  const journal = useJournal(group, limit)
  const entries = journal.data?.items ?? []
  return (
    <>
      <Trouble error={journal.error} />
      <p className="quiet">Times are local ({Intl.DateTimeFormat().resolvedOptions().timeZone}).</p>
      <Entries entries={entries} />
      {journal.data?.next && limit < 1000 && (
        <Button onClick={() => setLimit(Math.min(limit * 4, 1000))}>Show more</Button>
      )}
    </>
  )
})

/** Entries of the journal, as they come. */
export const Entries = memo(function Entries({ entries }: { entries: JournalEntry[] }) {
  return (
    <ol className="journal">
      {entries.map((e) => (
        <li key={e.number}>
          <time dateTime={e.at} className="quiet" title={exact(e.at)}>
            {clock(e.at)}
          </time>
          <span className={e.outcome === 'bad' ? 'trouble' : ''}>
            {e.text.replace(/\.$/, '')}
            {e.actor !== 'unitas' && ` [${e.actor}]`}, <span className="quiet">because</span> {e.because}
            <span className="quiet">{numbers(e)}</span>
          </span>
        </li>
      ))}
    </ol>
  )
})

/** A number with its unit, which is the end of its name. */
function number(name: string, value: unknown): string {
  const unit = /_(seconds|bytes)$/.exec(name)?.[1]
  const words = name.replace(/_(seconds|bytes)$/, '').replaceAll('_', ' ')
  return `${words} ${String(value)}${unit === 'seconds' ? ' s' : unit === 'bytes' ? ' B' : ''}`
}

function numbers(e: JournalEntry): string {
  const parts = Object.entries(e.numbers).map(([name, value]) => number(name, value))
  return parts.length ? ` (${parts.join(', ')})` : ''
}
