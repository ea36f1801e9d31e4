import { Button, Form, Input, InputNumber, Modal, Select } from 'antd'
import { usePools } from '../api/keeping'
import { useChangeListener, type Listener } from '../api/listeners'
import { fieldsOfRoute, routeOf, type RouteFields } from './listenerSettings'
import { isStale } from './Stale'
import { Trouble } from './Trouble'

interface Fields {
  routes: RouteFields[]
}

/** Changes the routes of a listener as they were seen: their order counts. */
export function RoutesForm({ listener: l, onClose }: { listener: Listener; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const pools = usePools()
  const change = useChangeListener()
  const names = (pools.data ?? []).map((p) => ({ value: p.name }))
  return (
    <Modal
      open
      width={860}
      title={`Routes of ${l.address}`}
      okText="Change them"
      okButtonProps={{ disabled: isStale(change.error) }}
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
          change.mutate({ listener: l, body: { routes: f.routes.map(routeOf) } }, { onSuccess: onClose })
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
                      label="Headers"
                      extra="NAME or NAME:VALUE; all of them."
                    >
                      <Select mode="tags" open={false} suffix={null} />
                    </Form.Item>
                    <Form.Item
                      name={[row.name, 'pool']}
                      label="Goes to the pool"
                      rules={[{ required: true, message: 'Choose a pool.' }]}
                    >
                      <Select options={names} />
                    </Form.Item>
                    <Form.Item name={[row.name, 'divert']} label="A part diverted to">
                      <Select allowClear options={names} placeholder="nowhere" />
                    </Form.Item>
                    <Form.Item name={[row.name, 'percent']} label="As much of them">
                      <InputNumber min={0} max={100} suffix="%" />
                    </Form.Item>
                    <Form.Item name={[row.name, 'divertHeader']} label="And those with the header">
                      <Input placeholder="none" />
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
        <Trouble error={change.error} />
      </Form>
    </Modal>
  )
}
