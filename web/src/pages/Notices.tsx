import { Button, Form, Input, InputNumber, Modal, Select, Switch } from 'antd'
import { useState } from 'react'
import {
  useMessages,
  useNotices,
  useNoticeSecret,
  useRemoveNotice,
  useSaveNotice,
  useSendMessage,
  type Message,
  type Notice,
  type Topic,
} from '../api/notices'
import { useGroups } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { useNow } from '../parts/now'
import { useTitle } from '../parts/title'
import { Draft, sentThen } from '../parts/Draft'
import { Raced, useSeen } from '../parts/Stale'
import { Trouble } from '../parts/Trouble'
import { secondsBetween, span } from '../parts/words'
import { Remove } from '../parts/Remove'
import { Table } from '../parts/Table'

/** What there is to hear of, in words. */
const topics: Record<Topic, string> = {
  'rollouts-held': 'a rollout is held or goes back',
  'rollouts-done': 'a rollout has ended',
  'heal-limit': 'healing stops, or goes on',
  'failing-slots': 'a slot or a zone fails again and again',
  'failed-launches': 'an instance did not come up',
  tickets: 'a hook holds an instance, or nobody answered',
  'at-max': 'a group has come to its max',
  resizes: 'the size is another',
  heals: 'an instance is replaced since it was ill or vanished',
  launches: 'an instance is launched',
  removals: 'an instance is gone',
}

/** Who hears of what, and what was sent. */
export function Notices() {
  useTitle('Notices')
  const notices = useNotices()
  const [editing, setEditing] = useState<Notice | 'new' | null>(null)
  const [looking, setLooking] = useState<Notice | null>(null)
  const all = notices.data
  const silent = (all ?? []).filter((n) => n.failing_at && !n.off).length
  return (
    <Page>
      <h1>Notices</h1>
      <p className="sentence">
        {!all || all.length === 0
          ? 'Nobody is told of anything. A notice tells somebody by signed message or by mail.'
          : silent === 0
            ? `${all.length === 1 ? 'One notice tells' : `${all.length} notices tell`} what happens; all are delivered.`
            : `▲ ${silent} of ${all.length} are not delivered.`}
      </p>
      <Trouble error={notices.error} />
      {!all && !notices.error && <Loading />}
      {all && all.length > 0 && <NoticeTable all={all} onEdit={setEditing} onLook={setLooking} />}
      <Button onClick={() => setEditing('new')}>Have somebody hear…</Button>
      {editing && (
        <NoticeForm
          was={editing === 'new' ? null : (all?.find((n) => n.name === editing.name) ?? editing)}
          onClose={() => setEditing(null)}
        />
      )}
      {looking && <Messages notice={looking} onClose={() => setLooking(null)} />}
    </Page>
  )
}

function NoticeTable({
  all,
  onEdit,
  onLook,
}: {
  all: Notice[]
  onEdit: (n: Notice) => void
  onLook: (n: Notice) => void
}) {
  const remove = useRemoveNotice()
  const now = useNow()
  return (
    <>
      <Table<Notice>
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={all}
        style={{ marginBottom: 12 }}
        columns={[
          { title: 'Notice', dataIndex: 'name' },
          {
            title: 'State',
            render: (_, n) =>
              n.off ? (
                '– off'
              ) : n.failing_at ? (
                <span className="trouble">
                  ▲ not delivered for {span(secondsBetween(n.failing_at, now))}: {n.failing_why}
                </span>
              ) : (
                '● delivered'
              ),
          },
          { title: 'Of', render: (_, n) => n.topics.join(', ') },
          { title: 'Groups', render: (_, n) => n.groups.join(', ') || 'all' },
          { title: 'Goes to', render: (_, n) => n.send || n.mail.join(', ') },
          { title: 'Gathers for', align: 'right', render: (_, n) => span(n.gather_seconds) },
          {
            title: <span className="unseen">Acts</span>,
            render: (_, n) => (
              <span className="row">
                <Button size="small" aria-label={`Messages of ${n.name}`} onClick={() => onLook(n)}>
                  Messages…
                </Button>
                <Button size="small" aria-label={`Change ${n.name}`} onClick={() => onEdit(n)}>
                  Change…
                </Button>
                <Remove
                  name={n.name}
                  goes={`${n.send || n.mail.join(', ')} is told nothing any more, and its messages are forgotten.`}
                  onRemove={() => remove.mutate(n)}
                />
              </span>
            ),
          },
        ]}
      />
      <Trouble error={remove.error} />
    </>
  )
}

interface Fields {
  name: string
  topics: Topic[]
  groups: string[]
  how: 'send' | 'mail'
  send: string
  mail: string[]
  gather: number | null
  off: boolean
  /** Given anew; those that there are are never shown. */
  secrets?: { name: string; value: string }[]
}

const lines: Record<string, (n: Notice | null) => string> = {
  'Of what': (n) => n?.topics.join(', ') ?? 'gone',
  Groups: (n) => n?.groups.join(', ') || 'all',
  To: (n) => n?.send || n?.mail.join(', ') || '',
  Headers: (n) => n?.headers.join(', ') || 'none',
  'Gather for': (n) => `${n?.gather_seconds ?? 0} s`,
  Off: (n) => (n?.off ? 'yes' : 'no'),
  Revision: (n) => String(n?.revision ?? 0),
}

const formOf = (n: Notice): Fields => ({ ...n, how: n.send ? 'send' : 'mail', gather: n.gather_seconds })

function NoticeForm({ was: now, onClose }: { was: Notice | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const race = useSeen(now, lines)
  const was = race.seen
  const draft = `notice ${was?.name ?? ''} ${String(was?.revision ?? 0)}`
  const save = useSaveNotice()
  const groups = useGroups()
  const how = Form.useWatch('how', form)
  const initial: Fields = was
    ? formOf(was)
    : {
        name: '',
        topics: ['rollouts-held', 'heal-limit', 'failing-slots', 'at-max'],
        groups: [],
        how: 'mail',
        send: '',
        mail: [],
        gather: 30,
        off: false,
      }
  return (
    <Modal
      open
      width={640}
      title={was ? `Change ${was.name}` : 'Have somebody hear'}
      okText={was ? 'Change it' : 'Make it'}
      okButtonProps={{ disabled: race.changed.length > 0 }}
      confirmLoading={save.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={initial}
        onFinish={(f) =>
          save.mutate(
            {
              was,
              name: f.name,
              body: {
                topics: f.topics,
                groups: f.groups,
                send: f.how === 'send' ? f.send.trim() : '',
                mail: f.how === 'mail' ? f.mail : [],
                gather_seconds: f.gather ?? 30,
                off: f.off,
                ...(f.how === 'send' && f.secrets?.length
                  ? { headers: Object.fromEntries(f.secrets.map((h) => [h.name, h.value])) }
                  : {}),
              },
            },
            {
              onSuccess: sentThen(draft, onClose),
            },
          )
        }
      >
        {!was && (
          <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
            <Input placeholder="on-call" />
          </Form.Item>
        )}
        <Form.Item
          name="topics"
          label="Of what"
          rules={[{ required: true, message: 'Say what it is to tell.' }]}
        >
          <Select
            mode="multiple"
            options={Object.entries(topics).map(([value, says]) => ({ value, label: `${value}: ${says}` }))}
            optionLabelProp="value"
          />
        </Form.Item>
        <Form.Item name="groups" label="Only of these groups" extra="None is of all.">
          <Select mode="multiple" options={(groups.data ?? []).map((g) => ({ value: g.name }))} />
        </Form.Item>
        <Form.Item name="how" label="How">
          <Select
            options={[
              { value: 'mail', label: 'by mail' },
              { value: 'send', label: 'by signed message to an address' },
            ]}
          />
        </Form.Item>
        {how === 'send' ? (
          <Form.Item name="send" label="Address" rules={[{ required: true, message: 'Say where to.' }]}>
            <Input placeholder="https://board.saltmere.example/hear" />
          </Form.Item>
        ) : (
          <Form.Item name="mail" label="To" rules={[{ required: true, message: 'Say to whom.' }]}>
            <Select mode="tags" tokenSeparators={[',', ' ']} placeholder="sre@saltmere.example" />
          </Form.Item>
        )}
        {how === 'send' && (
          <Form.List name="secrets">
            {(rows, { add, remove }) => (
              <Form.Item
                label="Headers with secrets"
                extra={
                  was && was.headers.length > 0
                    ? `Sent now: ${was.headers.join(', ')}. What is given here takes their place; another address is not sent them.`
                    : 'Such as Authorization; their values are never shown again.'
                }
              >
                {rows.map((row) => (
                  <div className="row" key={row.key} style={{ marginBottom: 4 }}>
                    <Form.Item
                      noStyle
                      name={[row.name, 'name']}
                      rules={[{ required: true, message: 'Name it.' }]}
                    >
                      <Input aria-label="Name of the header" placeholder="Authorization" />
                    </Form.Item>
                    <Form.Item
                      noStyle
                      name={[row.name, 'value']}
                      rules={[{ required: true, message: 'Give its value.' }]}
                    >
                      <Input.Password
                        aria-label="Value of the header"
                        autoComplete="off"
                        placeholder="Bearer …"
                      />
                    </Form.Item>
                    <Button aria-label="Remove the header" onClick={() => remove(row.name)}>
                      –
                    </Button>
                  </div>
                ))}
                {rows.length < 5 && (
                  <Button size="small" onClick={() => add()}>
                    Add a header
                  </Button>
                )}
              </Form.Item>
            )}
          </Form.List>
        )}
        <Form.Item
          name="gather"
          label="Gather for"
          extra="What comes within this time is one message, so that a storm is one."
        >
          <InputNumber min={0} max={3600} suffix="s" style={{ width: 140 }} />
        </Form.Item>
        <Form.Item name="off" label="Off: it tells nothing for now" valuePropName="checked">
          <Switch />
        </Form.Item>
        <Raced
          race={race}
          onGo={() => {
            if (now) form.setFieldsValue(formOf(now))
          }}
        />
        <Trouble error={save.error} />
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}

/** What was and is to be sent, to be sent again, and a test. */
function Messages({ notice: n, onClose }: { notice: Notice; onClose: () => void }) {
  const messages = useMessages(n.name)
  const send = useSendMessage(n.name)
  const secret = useNoticeSecret(n.name)
  const now = useNow()
  const tried = send.data
  return (
    <Modal open width={960} title={`Messages of ${n.name}`} footer={null} onCancel={onClose}>
      <div className="row" style={{ marginBottom: 8 }}>
        <Button type="primary" loading={send.isPending} onClick={() => send.mutate(undefined)}>
          Send a test
        </Button>
        {n.send && (
          <Button loading={secret.isPending} onClick={() => secret.mutate(undefined)}>
            Show the secret
          </Button>
        )}
      </div>
      {secret.data && (
        <p>
          <code>{secret.data.secret}</code>
        </p>
      )}
      <Trouble error={messages.error ?? send.error ?? secret.error} />
      {tried && (
        <p data-testid="sent" className={tried.state === 'sent' ? undefined : 'trouble'}>
          {tried.state === 'sent' ? '● Delivered' : '▲ Not delivered'}: {tried.response}
        </p>
      )}
      {messages.data?.length === 0 && <p className="quiet">Nothing was sent yet.</p>}
      {messages.data && messages.data.length > 0 && (
        <Table<Message>
          size="small"
          rowKey="number"
          pagination={false}
          dataSource={messages.data}
          columns={[
            { title: 'When', render: (_, m) => <Ago at={m.at} /> },
            { title: 'Subject', dataIndex: 'subject' },
            { title: 'State', render: (_, m) => stateOf(m, now) },
            { title: 'Tries', align: 'right', dataIndex: 'tries' },
            { title: 'Response', dataIndex: 'response' },
            {
              title: <span className="unseen">Acts</span>,
              render: (_, m) => (
                <Button
                  size="small"
                  aria-label={`Send ${m.number} again`}
                  onClick={() => send.mutate(m.number)}
                >
                  Send again
                </Button>
              ),
            },
          ]}
        />
      )}
    </Modal>
  )
}

function stateOf(m: Message, now: number): string {
  if (m.state === 'sent') return '● sent'
  if (m.state === 'failed') return '▲ failed'
  if (m.tries === 0 || !m.next_at) return '◌ waiting'
  return `▲ again in ${span(Math.max(0, (Date.parse(m.next_at) - now) / 1000))}`
}
