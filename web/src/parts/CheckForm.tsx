import { Checkbox, Form, Input, InputNumber, Modal, Select } from 'antd'
import { useState } from 'react'
import type { Check } from '../api/client'
import { changeCheck, useChangeCheck, useCheck, useMakeCheck, type CheckChange } from '../api/keeping'
import { Comes } from './Comes'
import { goodPairs, PairRows, pairsFrom, pairsTo, type Pair } from './PairRows'
import { differences, isStale, Stale } from './Stale'
import { Draft, sentThen } from './Draft'
import { Trouble } from './Trouble'
import { labelText, list, question, span } from './words'

interface Fields {
  name: string
  kind: Check['kind']
  port: number
  path: string
  host: string
  statuses: string
  text: string
  service: string
  verify: boolean
  interval: number
  timeout: number
  passes: number
  fails: number
  labels: Pair[]
  reason: string
}

const usual: Fields = {
  name: '',
  kind: 'http',
  port: 8080,
  path: '/',
  host: '',
  statuses: '200-299',
  text: '',
  service: '',
  verify: true,
  interval: 5,
  timeout: 2,
  passes: 2,
  fails: 3,
  labels: [],
  reason: '',
}

function fieldsOf(c: Check): Fields {
  return {
    ...c,
    interval: c.interval_seconds,
    timeout: c.timeout_seconds,
    labels: pairsFrom(c.labels),
    reason: '',
  }
}

const speaksHTTP = (kind: Check['kind']) => kind === 'http' || kind === 'https'

/** What the check asks, of the fields that its kind has. */
function bodyOf(kind: Check['kind'], f: Fields): CheckChange {
  return {
    port: f.port,
    ...(speaksHTTP(kind) ? { path: f.path, host: f.host, statuses: f.statuses, text: f.text } : {}),
    ...(kind === 'https' ? { verify: f.verify } : {}),
    ...(kind === 'grpc' ? { service: f.service } : {}),
    interval_seconds: f.interval,
    timeout_seconds: f.timeout,
    passes: f.passes,
    fails: f.fails,
    labels: pairsTo(f.labels),
  }
}

const lines: Record<string, (c: Check) => string> = {
  'What it asks': question,
  Host: (c) => c.host || 'the address',
  Certificate: (c) => (c.verify ? 'verified' : 'any'),
  Interval: (c) => span(c.interval_seconds),
  Timeout: (c) => span(c.timeout_seconds),
  Passes: (c) => String(c.passes),
  Fails: (c) => String(c.fails),
  Labels: (c) => labelText(c.labels) || 'none',
}

function Items({ kind }: { kind: Check['kind'] }) {
  return (
    <>
      <Form.Item name="port" label="Port">
        <InputNumber min={1} max={65535} />
      </Form.Item>
      {speaksHTTP(kind) && (
        <>
          <Form.Item name="path" label="Path">
            <Input />
          </Form.Item>
          <Form.Item name="statuses" label="Statuses that are good">
            <Input placeholder="200-299,404" />
          </Form.Item>
          <Form.Item name="text" label="Text that must be in the body">
            <Input />
          </Form.Item>
          <Form.Item name="host" label="Host" extra="Empty for the address of the instance.">
            <Input />
          </Form.Item>
        </>
      )}
      {kind === 'https' && (
        <Form.Item name="verify" valuePropName="checked" label="Certificate">
          <Checkbox>It must be one that the service trusts</Checkbox>
        </Form.Item>
      )}
      {kind === 'grpc' && (
        <Form.Item name="service" label="Service" extra="Empty for the whole server.">
          <Input />
        </Form.Item>
      )}
      <Form.Item name="interval" label="Interval">
        <InputNumber min={0.1} max={3600} suffix="s" />
      </Form.Item>
      <Form.Item name="timeout" label="Timeout" extra="At most the interval.">
        <InputNumber min={0.01} max={600} suffix="s" />
      </Form.Item>
      <Form.Item name="passes" label="Passes" extra="Good answers in a row to become healthy.">
        <InputNumber min={1} max={20} />
      </Form.Item>
      <Form.Item name="fails" label="Fails" extra="Bad answers in a row to become unhealthy.">
        <InputNumber min={1} max={20} />
      </Form.Item>
      <Form.Item name="labels" label="Labels" rules={[goodPairs]} className="whole">
        <PairRows what="label" id="labels" />
      </Form.Item>
    </>
  )
}

/** Makes a check. */
export function NewCheck({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const make = useMakeCheck()
  const kind = Form.useWatch('kind', form) as Check['kind'] | undefined
  return (
    <Modal
      open
      width={800}
      title="A new check"
      okText="Make it"
      confirmLoading={make.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>It judges nobody before a pool or a group names it.</p>
      <Form<Fields>
        form={form}
        className="form"
        layout="vertical"
        requiredMark={false}
        initialValues={usual}
        onFinish={(f) => {
          const all = { ...usual, ...f }
          make.mutate(
            { ...bodyOf(f.kind, all), name: f.name, kind: f.kind } as Parameters<typeof make.mutate>[0],
            {
              onSuccess: sentThen('new check', onClose),
            },
          )
        }}
      >
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
          <Input placeholder="sailings-up" autoFocus />
        </Form.Item>
        <Form.Item name="kind" label="Kind">
          <Select
            options={[
              { value: 'http', label: 'http: a GET must be answered well' },
              { value: 'https', label: 'https: the same with TLS' },
              { value: 'tcp', label: 'tcp: the port must take connections' },
              { value: 'grpc', label: 'grpc: the health service must say serving' },
            ]}
          />
        </Form.Item>
        <Items kind={kind ?? 'http'} />
        <Trouble error={make.error} />
        <Draft of="new check" />
      </Form>
    </Modal>
  )
}

/** Changes a check, and says whom it judges and what somebody else changed meanwhile. */
export function ChangeCheck({ name, onClose }: { name: string; onClose: () => void }) {
  const check = useCheck(name)
  const change = useChangeCheck()
  const [seen, setSeen] = useState<Check | null>(null)
  const [form] = Form.useForm<Fields>()
  const c = check.data
  const affected = [
    ...(c?.groups ?? []).map((g) => `the group ${g}`),
    ...(c?.pools ?? []).map((p) => `the pool ${p}`),
  ]
  const from = seen ?? c
  const changeOf = (was: Check, f: Fields) => ({
    ...bodyOf(was.kind, { ...fieldsOf(was), ...f }),
    ...(f.reason ? { reason: f.reason } : {}),
  })
  const submit = (f: Fields) => {
    if (!from) return
    change.mutate(
      { check: from, body: changeOf(from, f) },
      {
        onSuccess: sentThen(`check ${name} ${String(from.revision)}`, onClose),
      },
    )
  }
  const stale = isStale(change.error)
  const takeOver = () => {
    if (!c) return
    setSeen(c)
    change.reset()
    form.setFieldsValue(fieldsOf(c))
  }
  return (
    <Modal
      open
      width={800}
      title={`Change ${name}`}
      okText="Change it"
      okButtonProps={{ disabled: stale }}
      confirmLoading={change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>
        It applies at once to all that it judges: {list(affected) || 'nobody yet'}. Their instances are asked
        anew.
      </p>
      {c && (
        <Form<Fields>
          form={form}
          className="form"
          layout="vertical"
          requiredMark={false}
          onFinish={submit}
          initialValues={fieldsOf(c)}
          onValuesChange={() => setSeen((had) => had ?? c)}
        >
          <Items kind={c.kind} />
          <Form.Item name="reason" className="whole" label="Reason" extra="It is kept in the journal.">
            <Input />
          </Form.Item>
          {from && (
            <Comes<Fields> ask={(f) => changeCheck({ check: from, body: changeOf(from, f), dry: true })} />
          )}
          {stale && from ? (
            <Stale changed={differences(from, c, lines)} onTakeOver={takeOver} />
          ) : (
            <Trouble error={change.error} />
          )}
          <Draft of={`check ${name} ${String(c.revision)}`} />
        </Form>
      )}
    </Modal>
  )
}
