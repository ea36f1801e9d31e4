import { Button, Form, Input, InputNumber, Modal } from 'antd'
import { useAnswerTicket, useExtendTicket, type Ticket } from '../api/hooks'
import { Draft, sentThen } from './Draft'
import { Shown } from './Shown'
import { Trouble } from './Trouble'
import { leftOf, span } from './words'

export type Asked = { ticket: Ticket; act: 'pass' | 'fail' | 'extend' }

/** Asks once, with what comes of it. */
export function AnswerTicket({ asked: { ticket: t, act }, onClose }: { asked: Asked; onClose: () => void }) {
  const answer = useAnswerTicket()
  const extend = useExtendTicket()
  const most = Math.floor((Date.parse(t.max_deadline_at) - Date.parse(t.deadline_at)) / 1000)
  const draft = `${act} ${t.instance} ${t.hook} ${String(t.launch)}`
  const done = sentThen(draft, onClose)
  const submit = ({ note = '', minutes = 1 }: { note?: string; minutes?: number }) => {
    if (act === 'extend')
      extend.mutate(
        { ticket: t, seconds: Math.min(minutes * 60, Math.max(most, 1)), note },
        { onSuccess: done },
      )
    else answer.mutate({ ticket: t, answer: act, note }, { onSuccess: done })
  }
  return (
    <Modal open title={`${t.instance}, held by ${t.hook}`} footer={null} onCancel={onClose}>
      <p>
        <Shown>{(now) => comesOf(t, act, most, now)}</Shown>
      </p>
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
        <Draft of={draft} />
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
      return `The deadline is in ${leftOf(t.deadline_at, now)}; it can be moved by ${span(Math.max(most, 0))}, to the hook's bound.`
  }
}
