import { Button, Form, Input, InputNumber, Modal, Select } from 'antd'
import { useState } from 'react'
import { usePools } from '../api/keeping'
import { changeListener, useChangeListener, type Listener } from '../api/listeners'
import { splitOf, fieldsOfRoute, routeOf, takes, type RouteFields } from './listenerSettings'
import { Comes } from './Comes'
import { Draft, sentThen } from './Draft'
import { goodPairs, PairRows } from './PairRows'
import { differences, isStale, Stale } from './Stale'
import { Trouble } from './Trouble'

interface Fields {
  routes: RouteFields[]
  reason?: string
}

const lines: Record<string, (l: Listener) => string> = {
  Routes: (l) =>
    l.routes
      .map((r, k) => `${k + 1}. ${takes(r)} → ${r.pool}${r.split ? ` (${splitOf(r)})` : ''}`)
      .join('; ') || 'none',
  'Pool of what no route takes': (l) => l.pool || 'none',
}

/** Changes the routes of a listener as they were seen: their order counts. */
export function RoutesForm({ listener, onClose }: { listener: Listener; onClose: () => void }) {
  const [l, setSeen] = useState(listener)
  const [form] = Form.useForm<Fields>()
  const pools = usePools()
  const change = useChangeListener()
  const draft = `routes of ${l.address} ${String(l.revision)}`
  const bodyOf = (f: Fields) => ({ routes: f.routes.map(routeOf), ...(f.reason ? { reason: f.reason } : {}) })
  const stale = isStale(change.error)
  const names = (pools.data ?? []).map((p) => ({ value: p.name }))
  return (
    <Modal
      open
      width={860}
      title={`Routes of ${l.address}`}
      okText="Change them"
      okButtonProps={{ disabled: stale }}
      confirmLoading={change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>
        The first route that takes a request has it. What none takes{' '}
        {l.pool ? `goes to ${l.pool}` : 'is answered 404'}. Requests that are under way go on.
      </p>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ routes: l.routes.map(fieldsOfRoute) }}
        onFinish={(f) =>
          change.mutate({ listener: l, body: bodyOf(f) }, { onSuccess: sentThen(draft, onClose) })
        }
      >
        <Form.List name="routes">
          {(rows, { add, remove, move }) => (
            <>
              {rows.map((row, i) => (
                <fieldset key={row.key} className="route">
                  <legend>Route {i + 1}</legend>
                  <div className="form">
                    <Form.Item
                      name={[row.name, 'hosts']}
                      label="Hosts"
                      extra="*.NAME for all below; none: any."
                    >
                      <Select mode="tags" open={false} suffix={null} />
                    </Form.Item>
                    <Form.Item name={[row.name, 'path']} label="Path begins with">
                      <Input placeholder="any" />
                    </Form.Item>
                    <Form.Item
                      name={[row.name, 'headers']}
                      label="Headers that it must have"
                      rules={[goodPairs]}
                      className="whole"
                    >
                      <PairRows what="header" empty="any value" id={`headers-${i}`} />
                    </Form.Item>
                    <Form.Item
                      name={[row.name, 'pool']}
                      label="Goes to the pool"
                      rules={[{ required: true, message: 'Choose a pool.' }]}
                    >
                      <Select options={names} />
                    </Form.Item>
                    <Form.Item name={[row.name, 'split']} label="Split a part off to">
                      <Select allowClear options={names} placeholder="nowhere" />
                    </Form.Item>
                    <Form.Item name={[row.name, 'percent']} label="As much of them">
                      <InputNumber min={0} max={100} suffix="%" />
                    </Form.Item>
                    <Form.Item name={[row.name, 'splitName']} label="And those with the header">
                      <Input placeholder="none" />
                    </Form.Item>
                    <Form.Item name={[row.name, 'splitValue']} label="Of the value">
                      <Input placeholder="any value" />
                    </Form.Item>
                  </div>
                  <div className="row">
                    <Button size="small" disabled={i === 0} onClick={() => move(i, i - 1)}>
                      Ask earlier
                    </Button>
                    <Button size="small" disabled={i === rows.length - 1} onClick={() => move(i, i + 1)}>
                      Ask later
                    </Button>
                    <Button size="small" danger onClick={() => remove(i)}>
                      Take it away
                    </Button>
                  </div>
                </fieldset>
              ))}
              <Button size="small" onClick={() => add({ pool: l.pool || undefined })}>
                Add a route
              </Button>
            </>
          )}
        </Form.List>
        <Form.Item name="reason" label="Reason" extra="It is kept in the journal.">
          <Input maxLength={500} />
        </Form.Item>
        <Comes<Fields> ask={(f) => changeListener({ listener: l, body: bodyOf(f), dry: true })} />
        {stale ? (
          <Stale
            changed={differences(l, listener, lines)}
            onTakeOver={() => {
              setSeen(listener)
              change.reset()
              form.setFieldsValue({ routes: listener.routes.map(fieldsOfRoute) })
            }}
          />
        ) : (
          <Trouble error={change.error} />
        )}
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
