import { Button } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { useSendTicket, type Ticket } from '../api/hooks'
import type { Asked } from './AnswerTicket'
import { later } from './later'
import { Shown } from './Shown'
import { StateWord } from './StateWord'
import { Trouble } from './Trouble'
import { leftOf } from './words'
import { Table } from './Table'

const AnswerTicket = later(async () => (await import('./AnswerTicket')).AnswerTicket)

/** Tickets with what may be done about each. */
export function TicketTable({
  tickets,
  groups,
  tells = [],
}: {
  tickets: Ticket[]
  groups: boolean
  /** The hooks that name somebody who can be told again. */
  tells?: string[]
}) {
  const [asked, setAsked] = useState<Asked | null>(null)
  const send = useSendTicket()
  return (
    <>
      <Table<Ticket>
        size="small"
        style={{ marginBottom: 12 }}
        rowKey={(t) => `${t.instance}/${t.hook}`}
        dataSource={tickets}
        pagination={tickets.length > 50 ? { pageSize: 50 } : false}
        columns={[
          { title: 'Instance', dataIndex: 'instance' },
          ...(groups
            ? [
                {
                  title: 'Group',
                  render: (_: unknown, t: Ticket) => <Link to={`/groups/${t.group}`}>{t.group}</Link>,
                },
              ]
            : []),
          { title: 'Hook', render: (_, t) => `${t.hook}, at ${t.at}` },
          { title: 'State', render: (_, t) => <StateWord state={t.state} /> },
          {
            title: 'Left',
            align: 'right',
            render: (_, t) =>
              t.state === 'open' ? <Shown>{(now) => leftOf(t.deadline_at, now)}</Shown> : '–',
          },
          { title: 'So far', dataIndex: 'sentence' },
          {
            title: <span className="unseen">Acts</span>,
            render: (_, t) =>
              t.state === 'open' && (
                <span className="row">
                  {(['pass', 'fail', 'extend'] as const).map((act) => (
                    <Button
                      key={act}
                      size="small"
                      aria-label={`${act} ${t.instance}/${t.hook}`}
                      onClick={() => setAsked({ ticket: t, act })}
                    >
                      {act === 'pass' ? 'Pass…' : act === 'fail' ? 'Fail…' : 'Extend…'}
                    </Button>
                  ))}
                  {tells.includes(t.hook) && (
                    <Button size="small" type="link" loading={send.isPending} onClick={() => send.mutate(t)}>
                      Tell again
                    </Button>
                  )}
                </span>
              ),
          },
        ]}
      />
      <Trouble error={send.error} />
      {asked && <AnswerTicket asked={asked} onClose={() => setAsked(null)} />}
    </>
  )
}
