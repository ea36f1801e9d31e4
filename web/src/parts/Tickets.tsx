import { Button, Form, Input, InputNumber, Modal, Table } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { useAnswerTicket, useExtendTicket, useSendTicket, type Ticket } from '../api/hooks'
import { StateWord } from './StateWord'
import { Trouble } from './Trouble'
import { secondsBetween, span } from './words'

type Asked = { ticket: Ticket; act: 'pass' | 'fail' | 'extend' }

/** Tickets with what may be done about each. */
export function TicketTable({
  tickets,
  now,
  groups,
  tells = [],
}: {
  tickets: Ticket[]
  now: number
  groups: boolean
  /** The hooks that name somebody who can be told again. */
  tells?: string[]
}) {
  const [asked, setAsked] = useState<Asked | null>(null)
  const send = useSendTicket()
  const left = (t: Ticket) => -secondsBetween(t.deadline_at, now)
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
            render: (_, t) => (t.state === 'open' ? span(Math.max(left(t), 0)) : '–'),
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
      {asked && <Ask asked={asked} now={now} onClose={() => setAsked(null)} />}
    </>
  )
}

/** Asks once, with what comes of it. */
function Ask({
  asked: { ticket: t, act },
  now,
  onClose,
}: {
  asked: Asked
  now: number
  onClose: () => void
}) {
  const answer = useAnswerTicket()
  const extend = useExtendTicket()
  const most = Math.floor((Date.parse(t.bound_at) - Date.parse(t.deadline_at)) / 1000)
  const submit = ({ note = '', minutes = 1 }: { note?: string; minutes?: number }) => {
    if (act === 'extend')
      extend.mutate(
        { ticket: t, seconds: Math.min(minutes * 60, Math.max(most, 1)), note },
        { onSuccess: onClose },
      )
    else answer.mutate({ ticket: t, answer: act, note }, { onSuccess: onClose })
  }
  return (
    <Modal open title={`${t.instance}, held by ${t.hook}`} footer={null} onCancel={onClose}>
      <p>{comesOf(t, act, most, now)}</p>
      <Form layout="vertical" requiredMark={false} onFinish={submit} initialValues={{ minutes: 1 }}>
        {act === 'extend' && (
          <Form.Item name="minutes" label="How much later">
            <InputNumber min={0.1} suffix="min" />
          </Form.Item>
        )}
        <Form.Item name="note" label="Note" extra="It is kept with the ticket and in the journal.">
          <Input maxLength={500} />
        </Form.Item>
        <Trouble error={answer.error ?? extend.error} />
        <Button
          type="primary"
          danger={act === 'fail'}
          htmlType="submit"
          loading={answer.isPending || extend.isPending}
        >
          {act === 'pass' ? 'Pass it' : act === 'fail' ? 'Fail it' : 'Move the deadline'}
        </Button>
      </Form>
    </Modal>
  )
}

function comesOf(t: Ticket, act: Asked['act'], most: number, now: number): string {
  const then = t.at === 'launch' ? 'settles and then serves' : 'is stopped'
  switch (act) {
    case 'pass':
      return `The instance goes on once no other hook holds it: it ${then}.`
    case 'fail':
      return t.at === 'launch'
        ? 'The instance is removed, and the group launches another in its place.'
        : 'The instance is stopped all the same; that it failed is kept.'
    case 'extend':
      return `The deadline is in ${span(Math.max(-secondsBetween(t.deadline_at, now), 0))}; it can be moved by ${span(Math.max(most, 0))}, to the hook's bound.`
  }
}
