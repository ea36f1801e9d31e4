import { Form, Input, Modal, Select, Switch } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { usePools } from '../api/keeping'
import { changeListener, useChangeListener, useMakeListener, type Listener } from '../api/listeners'
import {
  changeOf,
  fieldsOfListener,
  limitWords,
  accessLogWords,
  regionOrderWords,
  newListenerOf,
  usualFields,
  type ListenerFields,
} from './listenerSettings'
import { Comes } from './Comes'
import { NumberField } from './NumberField'
import { differences, isStale, Stale } from './Stale'
import { Draft, dropDraft, sentThen } from './Draft'
import { Trouble } from './Trouble'

const lines: Record<string, (l: Listener) => string> = {
  Protocol: (l) => l.protocol,
  Pool: (l) => l.pool || 'none',
  Certificates: (l) => l.certificates.join(', ') || 'none',
  'HTTP/2': (l) => (l.http2 ? 'yes' : 'no'),
  Redirect: (l) => String(l.redirect),
  'Region order': regionOrderWords,
  Limits: limitWords,
  Upgrades: (l) => l.upgrades.join(', '),
  'Access log': accessLogWords,
  Routes: (l) => JSON.stringify(l.routes),
}

/** Makes a listener, or changes one as it was seen. */
export function ListenerForm({ listener, onClose }: { listener?: Listener; onClose: () => void }) {
  const [form] = Form.useForm<ListenerFields>()
  const [seen, setSeen] = useState(listener)
  const navigate = useNavigate()
  const pools = usePools()
  const make = useMakeListener()
  const change = useChangeListener()
  const protocol = Form.useWatch('protocol', form) as ListenerFields['protocol'] | undefined
  const order = Form.useWatch('regionOrder', form) as string | undefined
  const keep = Form.useWatch('keep', form) as string | undefined
  const initial = seen ? fieldsOfListener(seen) : usualFields
  const draft = `listener ${seen?.address ?? ''} ${String(seen?.revision ?? 0)}`
  const done = sentThen(draft, onClose)
  const submit = (all: ListenerFields) => {
    const f = { ...initial, ...all }
    if (seen) change.mutate({ listener: seen, body: changeOf(f) }, { onSuccess: done })
    else
      make.mutate(newListenerOf(f), {
        onSuccess: (l) => {
          dropDraft(draft)
          void navigate(`/listeners/${encodeURIComponent(l.address)}`)
        },
      })
  }
  const stale = isStale(change.error)
  return (
    <Modal
      open
      width={800}
      title={seen ? `Change ${seen.address}` : 'A new listener'}
      okText={seen ? 'Change it' : 'Make it'}
      okButtonProps={{ disabled: stale }}
      confirmLoading={make.isPending || change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>
        {seen
          ? 'It applies at once; connections and requests that are under way go on.'
          : 'It takes requests as soon as it is made. Routes are given on its page.'}
      </p>
      <Form<ListenerFields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={initial}
      >
        <div className="form">
          {!seen && (
            <Form.Item
              name="address"
              label="Address and port"
              rules={[{ required: true, message: 'Give one such as 127.0.0.1:8000.' }]}
            >
              <Input placeholder="127.0.0.1:8000" />
            </Form.Item>
          )}
          <Form.Item name="protocol" label="Protocol">
            <Select
              options={[
                { value: 'http', label: 'http: requests in clear' },
                { value: 'https', label: 'https: requests with TLS' },
                { value: 'tcp', label: 'tcp: connections of any protocol' },
              ]}
            />
          </Form.Item>
          <Form.Item
            name="pool"
            label={protocol === 'tcp' ? 'Pool' : 'Pool of what no route takes'}
            extra={protocol === 'tcp' ? undefined : 'Without one that is answered 404.'}
          >
            <Select allowClear options={(pools.data ?? []).map((p) => ({ value: p.name }))} />
          </Form.Item>
          {protocol === 'https' && (
            <>
              <Form.Item
                name="certificates"
                label="Certificates"
                extra="By name; a caller gets the first for the name that it asks for."
              >
                <Select mode="tags" open={false} suffix={null} />
              </Form.Item>
              <Form.Item name="minTls" label="Oldest version of TLS">
                <Select options={[{ value: '1.2' }, { value: '1.3' }]} />
              </Form.Item>
            </>
          )}
          {protocol !== 'tcp' && (
            <Form.Item
              name="http2"
              label="HTTP/2"
              valuePropName="checked"
              extra={protocol === 'https' ? 'Offered to callers.' : 'In clear, from callers that know of it.'}
            >
              <Switch />
            </Form.Item>
          )}
          {protocol !== 'tcp' && (
            <Form.Item
              name="upgrades"
              label="Upgrades"
              extra="Protocols a connection may change to, such as websocket; none alone for none."
            >
              <Select mode="tags" open={false} suffix={null} />
            </Form.Item>
          )}
          {protocol === 'http' && (
            <NumberField
              name="redirect"
              label="Send all to https at port"
              extra="Empty: it does not."
              min={1}
              max={65535}
            />
          )}
          {protocol === 'tcp' && (
            <Form.Item
              name="proxyProtocol"
              label="PROXY protocol"
              valuePropName="checked"
              extra="Version 2: it tells targets who calls."
            >
              <Switch />
            </Form.Item>
          )}
          <Form.Item name="regionOrder" label="Region order">
            <Select
              options={[
                { value: 'alike', label: 'none: all alike' },
                { value: 'in-order', label: 'in an order of yours' },
                { value: 'measured', label: 'measured: fastest connections' },
              ]}
            />
          </Form.Item>
          {order === 'in-order' && (
            <Form.Item name="regions" label="Regions, the nearest first">
              <Select mode="tags" open={false} suffix={null} />
            </Form.Item>
          )}
          {order !== undefined && order !== 'alike' && (
            <NumberField
              name="enough"
              label="Enough healthy"
              extra="Below it the next region shares."
              min={1}
              max={100}
              unit="%"
            />
          )}
          <Form.Item name="keep" label="Access log">
            <Select
              options={[
                { value: 'failures', label: 'failures' },
                { value: 'sampled', label: 'a percentage, and all failures' },
                { value: 'all', label: 'all requests' },
                { value: 'none', label: 'nothing' },
              ]}
            />
          </Form.Item>
          {keep === 'sampled' && (
            <NumberField name="percent" label="Percentage" min={0.01} max={100} unit="%" />
          )}
        </div>
        <h3>Limits of a caller; 0 is none</h3>
        <div className="form">
          {protocol !== 'tcp' && (
            <>
              <NumberField name="head" label="To send a header" max={3600} unit="s" />
              <NumberField name="idle" label="Between requests and parts" max={86400} unit="s" />
              <NumberField
                name="write"
                label="To take what is written"
                extra="0: as between parts."
                max={86400}
                unit="s"
              />
              <NumberField name="request" label="A whole request" max={86400} unit="s" />
              <NumberField name="headBytes" label="Size of a header" max={16777216} unit="B" />
              <NumberField name="bodyBytes" label="Size of a body" unit="B" />
              <NumberField name="requestRate" label="Requests of one address" unit="/s" />
            </>
          )}
          <NumberField name="tunnelIdle" label="A tunnel without a byte" max={604800} unit="s" />
          <NumberField name="connections" label="Connections of one address" />
          <NumberField name="connectionRate" label="New ones of one address" unit="/s" />
          {seen && (
            <Form.Item name="reason" label="Reason" extra="It is kept in the journal.">
              <Input />
            </Form.Item>
          )}
        </div>
        {seen && (
          <Comes<ListenerFields>
            ask={(f) => changeListener({ listener: seen, body: changeOf({ ...initial, ...f }), dry: true })}
          />
        )}
        {stale && seen && listener ? (
          <Stale
            changed={differences(seen, listener, lines)}
            onTakeOver={() => {
              setSeen(listener)
              change.reset()
              form.setFieldsValue(fieldsOfListener(listener))
            }}
          />
        ) : (
          <Trouble error={make.error ?? change.error} />
        )}
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
