import { Switch } from 'antd'
import { useState } from 'react'
import { useTickets } from '../api/hooks'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { TicketTable } from '../parts/Tickets'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'

/** Whom hooks hold now, in all groups; whose deadline comes first on top. */
export function Tickets() {
  useTitle('Tickets')
  const [all, setAll] = useState(false)
  const tickets = useTickets(undefined, all)
  const open = (tickets.data ?? []).filter((t) => t.state === 'open').length
  return (
    <Page>
      <h1>Tickets</h1>
      <p className="sentence" data-testid="sentence">
        {!tickets.data
          ? 'Reading which hooks hold instances.'
          : open === 0
            ? 'No hook holds an instance.'
            : `${count(open, 'ticket')} ${open === 1 ? 'waits' : 'wait'} for an answer.`}
      </p>
      <label className="row quiet">
        <Switch size="small" checked={all} onChange={setAll} aria-label="Show those that are closed" /> show
        those that are closed, of each instance's present launch
      </label>
      <Trouble error={tickets.error} />
      {tickets.data ? tickets.data.length > 0 && <TicketTable tickets={tickets.data} groups /> : <Loading />}
    </Page>
  )
}
