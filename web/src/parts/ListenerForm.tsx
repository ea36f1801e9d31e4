import { Form, Input, Modal, Select, Switch } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { usePools } from '../api/keeping'
import { changeListener, useChangeListener, useMakeListener, type Listener } from '../api/listeners'
import {
  changeOf,
  fieldsOfListener,
  limitWords,
  logWords,
  nearWords,
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
  Kind: (l) => l.kind,
  Pool: (l) => l.pool || 'none',
  Certificates: (l) => l.certificates.join(', ') || 'none',
  'HTTP/2': (l) => (l.http2 ? 'yes' : 'no'),
  Redirect: (l) => String(l.redirect),
  Prefers: nearWords,
  Limits: limitWords,
  'Changes to': (l) => l.upgrades.join(', '),
  'Writes down': logWords,
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
  const kind = Form.useWatch('kind', form) as ListenerFields['kind'] | undefined
  const near = Form.useWatch('near', form) as string | undefined
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
          <Form.Item name="kind" label="What it speaks">
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
            label={kind === 'tcp' ? 'Pool' : 'Pool of what no route takes'}
            extra={kind === 'tcp' ? undefined : 'Without one that is answered 404.'}
          >
            <Select allowClear options={(pools.data ?? []).map((p) => ({ value: p.name }))} />
          </Form.Item>
          {kind === 'https' && (
            <>
              <Form.Item
                name="certificates"
                label="Certificates"
                extra="By name; a caller gets the first for the name that it asks for."
              >
                <Select mode="tags" open={false} suffix={null} />
              </Form.Item>
              <Form.Item name="leastTls" label="Oldest version of TLS">
                <Select options={[{ value: '1.2' }, { value: '1.3' }]} />
              </Form.Item>
            </>
          )}
          {kind !== 'tcp' && (
            <Form.Item
              name="http2"
              label="HTTP/2"
              valuePropName="checked"
              extra={kind === 'https' ? 'Offered to callers.' : 'In clear, from callers that know of it.'}
            >
              <Switch />
            </Form.Item>
          )}
          {kind !== 'tcp' && (
            <Form.Item
              name="upgrades"
              label="Protocols a connection may change to"
              extra="By name, such as websocket; none alone for none."
            >
              <Select mode="tags" open={false} suffix={null} />
            </Form.Item>
          )}
          {kind === 'http' && (
            <NumberField
              name="redirect"
              label="Send all to https at port"
              extra="Empty: it does not."
              min={1}
              max={65535}
            />
          )}
          {kind === 'tcp' && (
            <Form.Item
              name="tell"
              label="Tell targets who is there"
              valuePropName="checked"
              extra="PROXY protocol, version 2."
            >
              <Switch />
            </Form.Item>
          )}
          <Form.Item name="near" label="Preferred region">
            <Select
              options={[
                { value: 'alike', label: 'none: all alike' },
                { value: 'in-order', label: 'in an order of yours' },
                { value: 'measured', label: 'measured: fastest connections' },
              ]}
            />
          </Form.Item>
          {near === 'in-order' && (
            <Form.Item name="regions" label="Regions, the nearest first">
              <Select mode="tags" open={false} suffix={null} />
            </Form.Item>
          )}
          {near !== undefined && near !== 'alike' && (
            <NumberField
              name="enough"
              label="Enough healthy"
              extra="Below it the next region shares."
              min={1}
              max={100}
              unit="%"
            />
          )}
          <Form.Item name="keep" label="What is written down">
            <Select
              options={[
                { value: 'failures', label: 'failures' },
                { value: 'share', label: 'a share, and all failures' },
                { value: 'all', label: 'all requests' },
                { value: 'none', label: 'nothing' },
              ]}
            />
          </Form.Item>
          {keep === 'share' && <NumberField name="percent" label="Share" min={0.01} max={100} unit="%" />}
        </div>
        <h3>Limits of a caller; 0 is none</h3>
        <div className="form">
          {kind !== 'tcp' && (
            <>
              <NumberField name="head" label="To send a head" max={3600} unit="s" />
              <NumberField name="idle" label="Between requests and parts" max={86400} unit="s" />
              <NumberField
                name="write"
                label="To take what is written"
                extra="0: as between parts."
                max={86400}
                unit="s"
              />
              <NumberField name="request" label="A whole request" max={86400} unit="s" />
              <NumberField name="headBytes" label="Size of a head" max={16777216} unit="B" />
              <NumberField name="bodyBytes" label="Size of a body" unit="B" />
              <NumberField name="requestRate" label="Requests of one address" unit="/s" />
            </>
          )}
          <NumberField name="quiet" label="Without a byte either way" max={604800} unit="s" />
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
