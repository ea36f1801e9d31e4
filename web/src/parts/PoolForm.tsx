import { Button, Checkbox, Form, Input, InputNumber, Modal, Select } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Pool } from '../api/client'
import { changePool, useChangePool, useChecks, useMakePool, type NewPool } from '../api/keeping'
import { useGroups } from '../api/queries'
import { Comes } from './Comes'
import { goodPairs, PairRows, pairsFrom, pairsTo, type Pair } from './PairRows'
import { sharesText, weightsText } from './poolSettings'
import { SpokenFields } from './SpokenFields'
import {
  ejectWords,
  fieldsOfSpoken,
  poolLimitWords,
  protocolWords,
  spokenChange,
  affinityWords,
  type SpokenFields as SpokenValues,
} from './spokenSettings'
import { differences, isStale, Stale } from './Stale'
import { Draft, dropDraft, sentThen } from './Draft'
import { Trouble } from './Trouble'
import { labelText } from './words'

interface Share {
  group: string
  weight: number
  reserve: boolean
}

interface Fields extends SpokenValues {
  check: string
  algorithm: Pool['algorithm']
  whenNoneHealthy: Pool['when_none_healthy']
  slow: number
  shares: Share[]
  enough: number
  weights: { instance: string; weight: number }[]
  labels: Pair[]
  reason: string
}

function fieldsOf(p: Pool): Fields {
  return {
    check: p.check,
    algorithm: p.algorithm,
    whenNoneHealthy: p.when_none_healthy,
    slow: p.slow_start_seconds,
    shares: p.shares.map((s) => ({ ...s })),
    enough: p.enough_percent,
    weights: Object.entries(p.weights).map(([instance, weight]) => ({ instance, weight })),
    labels: pairsFrom(p.labels),
    reason: '',
    ...fieldsOfSpoken(p),
  }
}

const lines: Record<string, (p: Pool) => string> = {
  Algorithm: (p) => p.algorithm,
  'When none is healthy': (p) => p.when_none_healthy,
  'Slow start': (p) => `${String(p.slow_start_seconds)} s`,
  Shares: (p) => sharesText(p) || 'alike',
  Enough: (p) => `${String(p.enough_percent)} %`,
  Check: (p) => p.check,
  Listeners: (p) => p.listeners.map((l) => l.address).join(', '),
  Weights: (p) => weightsText(p) || 'all 100',
  Labels: (p) => labelText(p.labels) || 'none',
  Protocol: protocolWords,
  Affinity: affinityWords,
  Ejects: ejectWords,
  Limits: poolLimitWords,
}

/** Changes a pool, and says what somebody else changed meanwhile. */
export function ChangePool({ pool, onClose }: { pool: Pool; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const [seen, setSeen] = useState(pool)
  const change = useChangePool()
  const checks = useChecks()
  const bodyOf = (f: Fields) => ({
    check: f.check,
    algorithm: f.algorithm,
    when_none_healthy: f.whenNoneHealthy,
    slow_start_seconds: f.slow,
    enough_percent: f.enough,
    ...spokenChange({ ...fieldsOfSpoken(seen), ...f }),
    shares: f.shares,
    weights: Object.fromEntries(f.weights.map((w) => [w.instance, w.weight])),
    labels: pairsTo(f.labels),
    ...(f.reason ? { reason: f.reason } : {}),
  })
  const submit = (f: Fields) => {
    change.mutate(
      { pool: seen, body: bodyOf(f) },
      {
        onSuccess: sentThen(`pool ${seen.name} ${String(seen.revision)}`, onClose),
      },
    )
  }
  const stale = isStale(change.error)
  const takeOver = () => {
    setSeen(pool)
    change.reset()
    form.setFieldsValue(fieldsOf(pool))
  }
  return (
    <Modal
      open
      width={800}
      title={`Change ${pool.name}`}
      okText="Change it"
      okButtonProps={{ disabled: stale }}
      confirmLoading={change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>It applies at once; connections and requests that are under way go on.</p>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={fieldsOf(seen)}
      >
        <Form.Item name="check" label="The check that decides who gets requests">
          <Select options={(checks.data ?? []).map((c) => ({ value: c.name }))} />
        </Form.Item>
        <Form.Item name="algorithm" label="Which target gets the next request">
          <Select options={[{ value: 'round-robin' }, { value: 'least-busy' }]} />
        </Form.Item>
        <Form.Item name="whenNoneHealthy" label="When no target is healthy">
          <Select options={[{ value: 'refuse' }, { value: 'try-all' }]} />
        </Form.Item>
        <Form.Item name="slow" label="Slow start" extra="How long a fresh target takes to come to its share.">
          <InputNumber min={0} max={3600} suffix="s" />
        </Form.Item>
        <ShareRows groups={pool.groups} />
        <Form.Item name="enough" label="Enough" extra="The share of the others that must be healthy.">
          <InputNumber min={1} max={100} suffix="%" />
        </Form.Item>
        <WeightRows instances={pool.targets.map((t) => t.instance)} />
        <SpokenFields />
        <Form.Item name="labels" label="Labels" rules={[goodPairs]}>
          <PairRows what="label" id="labels" />
        </Form.Item>
        <Form.Item name="reason" label="Reason" extra="It is kept in the journal.">
          <Input maxLength={500} />
        </Form.Item>
        <Comes<Fields> ask={(f) => changePool({ pool: seen, body: bodyOf(f), dry: true })} />
        {stale ? (
          <Stale changed={differences(seen, pool, lines)} onTakeOver={takeOver} />
        ) : (
          <Trouble error={change.error} />
        )}
        <Draft of={`pool ${pool.name} ${String(pool.revision)}`} />
      </Form>
    </Modal>
  )
}

/** Groups that do not share as their targets do, a row for each. */
function ShareRows({ groups }: { groups: string[] }) {
  return (
    <Form.Item label="Shares" extra="A group without a row gets as much as its targets do.">
      <Form.List name="shares">
        {(rows, { add, remove }) => (
          <div role="group" aria-label="Shares">
            {rows.map((row, k) => (
              <div className="row pair" key={row.key}>
                <Form.Item name={[row.name, 'group']} noStyle>
                  <Select
                    style={{ minWidth: 200 }}
                    aria-label={`Group of share ${String(k + 1)}`}
                    options={groups.map((value) => ({ value }))}
                  />
                </Form.Item>
                <Form.Item name={[row.name, 'weight']} noStyle>
                  <InputNumber min={0} max={1000} aria-label={`Weight of share ${String(k + 1)}`} />
                </Form.Item>
                <Form.Item name={[row.name, 'reserve']} valuePropName="checked" noStyle>
                  <Checkbox>only when too few others are healthy</Checkbox>
                </Form.Item>
                <Button
                  size="small"
                  aria-label={`Take away share ${String(k + 1)}`}
                  onClick={() => remove(row.name)}
                >
                  ×
                </Button>
              </div>
            ))}
            <Button
              size="small"
              id="shares-add"
              onClick={() =>
                add({ group: groups[rows.length] ?? groups[0] ?? '', weight: 100, reserve: false })
              }
            >
              Add a share
            </Button>
          </div>
        )}
      </Form.List>
    </Form.Item>
  )
}

/** Single targets that weigh another than 100, a row for each. */
function WeightRows({ instances }: { instances: string[] }) {
  return (
    <Form.Item
      label="Weights"
      extra="Of single instances against the others of their group; 100 without a row."
    >
      <Form.List name="weights">
        {(rows, { add, remove }) => (
          <div role="group" aria-label="Weights">
            {rows.map((row, k) => (
              <div className="row pair" key={row.key}>
                <Form.Item name={[row.name, 'instance']} noStyle>
                  <Select
                    showSearch
                    style={{ minWidth: 200 }}
                    aria-label={`Instance of weight ${String(k + 1)}`}
                    options={instances.map((value) => ({ value }))}
                  />
                </Form.Item>
                <Form.Item name={[row.name, 'weight']} noStyle>
                  <InputNumber min={0} max={1000} aria-label={`Weight ${String(k + 1)}`} />
                </Form.Item>
                <Button
                  size="small"
                  aria-label={`Take away weight ${String(k + 1)}`}
                  onClick={() => remove(row.name)}
                >
                  ×
                </Button>
              </div>
            ))}
            <Button
              size="small"
              id="weights-add"
              onClick={() => add({ instance: instances[rows.length] ?? instances[0] ?? '', weight: 100 })}
            >
              Add a weight
            </Button>
          </div>
        )}
      </Form.List>
    </Form.Item>
  )
}

interface NewFields {
  name: string
  check: string
  address: string
  certificate: string
}

/** Makes a pool; what is not asked for here is as usual, and changed on its page. */
export function MakePool({ onClose }: { onClose: () => void }) {
  const make = useMakePool()
  const checks = useChecks()
  const groups = useGroups()
  const navigate = useNavigate()
  const [form] = Form.useForm<NewFields>()
  const submit = (f: NewFields) => {
    const body = {
      name: f.name,
      check: f.check,
      listeners: f.address
        ? [{ address: f.address, ...(f.certificate ? { certificate: f.certificate } : {}) }]
        : [],
    } as unknown as NewPool
    make.mutate(body, {
      onSuccess: () => {
        dropDraft('new pool')
        onClose()
        void navigate(`/pools/${f.name}`)
      },
    })
  }
  return (
    <Modal
      open
      title="A new pool"
      okText="Make it"
      confirmLoading={make.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>
        It sends requests to nobody before a group names it
        {(groups.data?.length ?? 0) > 0 && ', under Settings on the page of the group'}. Everything else of it
        is as usual, and changed on its page.
      </p>
      <Form<NewFields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={{ address: '', certificate: '' }}
      >
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
          <Input placeholder="front" autoFocus />
        </Form.Item>
        <Form.Item
          name="check"
          label="The check that decides who gets requests"
          rules={[{ required: true, message: 'Choose a check.' }]}
        >
          <Select
            options={(checks.data ?? []).map((c) => ({ value: c.name }))}
            notFoundContent="Make a check first."
          />
        </Form.Item>
        <Form.Item name="address" label="Listens on" extra="Empty when routes of listeners send to it.">
          <Input placeholder="127.0.0.1:8000" />
        </Form.Item>
        <Form.Item name="certificate" label="Certificate" extra="Its name, for https; empty for http.">
          <Input />
        </Form.Item>
        <Trouble error={make.error} />
        <Draft of="new pool" />
      </Form>
    </Modal>
  )
}
