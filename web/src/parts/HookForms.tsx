import { Button, Form, Input, InputNumber, Modal, Select } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useAddHook, useChangeHook, useHookSecret, useTryHook, type Hook } from '../api/hooks'
import { Draft, sentThen } from './Draft'
import { Raced, useSeen } from './Stale'
import { Trouble } from './Trouble'
import { Sure } from './Sure'
import { span } from './words'

/** Sends or runs what a hook would, once, and shows what comes back. */
export function TryHook({
  group,
  hook,
  instances,
  onClose,
}: {
  group: string
  hook: Hook
  instances: string[]
  onClose: () => void
}) {
  const attempt = useTryHook(group)
  const [instance, setInstance] = useState(hook.run.length > 0 ? (instances[0] ?? '') : '')
  const came = attempt.data
  return (
    <Modal
      open
      title={`Try ${hook.name}`}
      okText={hook.send ? 'Send a sample' : 'Run it once'}
      confirmLoading={attempt.isPending}
      onOk={() => attempt.mutate({ hook: hook.name, ...(instance ? { instance } : {}) })}
      onCancel={onClose}
    >
      <p>
        {hook.send
          ? `A sample event goes to ${hook.send}. Nobody is held and nothing is answered.`
          : 'The command is run in one instance. Nobody is held and nothing is answered.'}
      </p>
      {hook.run.length > 0 && (
        <Select
          aria-label="Instance"
          value={instance}
          onChange={setInstance}
          options={instances.map((value) => ({ value }))}
          style={{ minWidth: 220 }}
        />
      )}
      <Trouble error={attempt.error} />
      {came && (
        <dl className="facts">
          <dt>Status</dt>
          <dd>{came.status <= 0 && came.kind === 'webhook' ? 'none' : came.status}</dd>
          <dt>Took</dt>
          <dd>{came.took_ms.toFixed(1)} ms</dd>
          <dt>Response</dt>
          <dd>{came.response || 'nothing'}</dd>
          <dt>A ticket</dt>
          <dd>{came.answer ? `would ${came.answer}` : 'would stay open until somebody answers'}</dd>
        </dl>
      )}
    </Modal>
  )
}

/** What the messages of a hook are signed with, and another. */
export function HookSecret({ group, hook, onClose }: { group: string; hook: Hook; onClose: () => void }) {
  const secret = useHookSecret(group)
  return (
    <Modal open title={`The secret of ${hook.name}`} footer={null} onCancel={onClose}>
      <p>Its messages are signed with it. That it is shown is kept in the journal.</p>
      {secret.data && <pre className="log">{secret.data.secret}</pre>}
      <Trouble error={secret.error} />
      <span className="row">
        <Button loading={secret.isPending} onClick={() => secret.mutate({ hook: hook.name, fresh: false })}>
          Show it
        </Button>
        <Sure
          title="Make another secret?"
          description="Messages are signed with it from now on; the receiver must know it."
          okText="Make another"
          onConfirm={() => secret.mutate({ hook: hook.name, fresh: true })}
        >
          <Button danger>Another…</Button>
        </Sure>
      </span>
    </Modal>
  )
}

interface Fields {
  name: string
  at: Hook['at']
  who: 'send' | 'run' | 'people'
  send?: string
  run?: string
  deadline: number
  bound?: number | null
  otherwise?: Hook['otherwise'] | ''
}

const lines: Record<string, (h: Hook | null) => string> = {
  At: (h) => h?.at ?? 'gone',
  'Who answers': (h) => h?.send || h?.run.join(' ') || 'people',
  Deadline: (h) => span(h?.deadline_seconds ?? 0),
  'At most': (h) => span(h?.max_deadline_seconds ?? 0),
  Otherwise: (h) => h?.otherwise ?? '',
}

const fieldsOf = (h: Hook): Fields => ({
  name: h.name,
  at: h.at,
  who: h.send ? 'send' : h.run.length > 0 ? 'run' : 'people',
  send: h.send,
  run: h.run.join('\n'),
  deadline: h.deadline_seconds,
  bound: h.max_deadline_seconds,
  otherwise: h.otherwise,
})

/** A new hook, or other settings of one. */
export function HookForm({
  group: g,
  hook,
  onClose,
}: {
  group: Group
  hook: Hook | null
  onClose: () => void
}) {
  const [form] = Form.useForm<Fields>()
  const race = useSeen(hook, lines)
  const draft = `hook ${g.name} ${Object.values(lines)
    .map((says) => says(race.seen))
    .join()} ${race.seen?.name ?? ''}`
  const done = sentThen(draft, onClose)
  const who = Form.useWatch('who', form)
  const add = useAddHook(g)
  const change = useChangeHook(g)
  const submit = (f: Fields) => {
    const run = f.who === 'run' ? (f.run ?? '').split('\n').filter((word) => word !== '') : []
    const settings = {
      at: f.at,
      deadline_seconds: f.deadline,
      ...(f.bound ? { max_deadline_seconds: f.bound } : {}),
      ...(f.otherwise ? { otherwise: f.otherwise } : {}),
    }
    const send = f.who === 'send' ? (f.send ?? '') : ''
    if (hook) change.mutate({ hook: hook.name, body: { ...settings, send, run } }, { onSuccess: done })
    else
      add.mutate(
        { name: f.name, ...settings, ...(send ? { send } : {}), ...(run.length > 0 ? { run } : {}) },
        { onSuccess: done },
      )
  }
  return (
    <Modal
      open
      title={hook ? `Change ${hook.name}` : `A hook for ${g.name}`}
      okText={hook ? 'Change it' : 'Add it'}
      okButtonProps={{ disabled: race.changed.length > 0 }}
      confirmLoading={add.isPending || change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p className="quiet">
        {hook
          ? 'Tickets that are open keep their deadlines.'
          : 'It holds each instance that comes to its point from now on.'}
      </p>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={hook ? fieldsOf(hook) : { at: 'launch', who: 'send', deadline: 120, otherwise: '' }}
      >
        {!hook && (
          <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
            <Input placeholder="warm-cache" />
          </Form.Item>
        )}
        <Form.Item name="at" label="At">
          <Select
            options={[
              { value: 'launch', label: 'launch: after boot, before it may serve' },
              { value: 'retire', label: 'retire: after its drain, before its machine stops' },
            ]}
          />
        </Form.Item>
        <Form.Item name="who" label="Who answers">
          <Select
            options={[
              { value: 'send', label: 'whoever gets a signed message' },
              { value: 'run', label: 'a command in the instance' },
              { value: 'people', label: 'people, or programs that look' },
            ]}
          />
        </Form.Item>
        {who === 'send' && (
          <Form.Item
            name="send"
            label="Address"
            rules={[{ required: true, message: 'Say where messages go.' }]}
          >
            <Input placeholder="http://127.0.0.1:8099/warm" />
          </Form.Item>
        )}
        {who === 'run' && (
          <Form.Item
            name="run"
            label="Command"
            extra="One word to a line; no shell reads it. Exit status 0 passes."
            rules={[{ required: true, message: 'Give a command.' }]}
          >
            <Input.TextArea rows={3} className="mono" />
          </Form.Item>
        )}
        <Form.Item name="deadline" label="Deadline: how long an answer may take">
          <InputNumber min={1} max={259200} suffix="s" />
        </Form.Item>
        <Form.Item
          name="bound"
          label="Longest: with all extensions"
          extra={hook ? undefined : 'Without it four deadlines.'}
        >
          <InputNumber min={1} max={259200} suffix="s" />
        </Form.Item>
        <Form.Item name="otherwise" label="Otherwise: what counts when nobody answers">
          <Select
            options={[
              ...(hook ? [] : [{ value: '', label: 'as usual: fail at launch, pass at retire' }]),
              { value: 'pass', label: 'pass' },
              { value: 'fail', label: 'fail' },
            ]}
          />
        </Form.Item>
        <Raced
          race={race}
          onGo={() => {
            if (hook) form.setFieldsValue(fieldsOf(hook))
          }}
        />
        <Trouble error={add.error ?? change.error} />
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
