import { Form, Input, InputNumber, Select } from 'antd'
import type { SpokenFields as Fields } from './spokenSettings'

/** The fields of a form for how targets are spoken to, kept, set aside and limited. */
export function SpokenFields() {
  const form = Form.useFormInstance()
  const speak = Form.useWatch('speak', form) as Fields['speak'] | undefined
  const stay = Form.useWatch('stayBy', form) as Fields['stayBy'] | undefined
  return (
    <>
      <div className="form">
        <Form.Item name="speak" label="What targets are spoken to in">
          <Select
            options={[
              { value: 'http', label: 'http: HTTP/1.1 in clear' },
              { value: 'http2', label: 'http2: HTTP/2 in clear' },
              { value: 'https', label: 'https: with TLS' },
            ]}
          />
        </Form.Item>
        {speak === 'https' && (
          <>
            <Form.Item name="trust" label="Trusted by" extra="host, anyone, or the name of a certificate.">
              <Input />
            </Form.Item>
            <Form.Item name="serverName" label="The name that they must have" extra="Empty: their address.">
              <Input />
            </Form.Item>
          </>
        )}
        <Form.Item name="stayBy" label="Callers stay at a target by">
          <Select
            options={[{ value: 'nothing' }, { value: 'cookie' }, { value: 'header' }, { value: 'address' }]}
          />
        </Form.Item>
        {stay === 'header' && (
          <Form.Item name="stayHeader" label="Header">
            <Input />
          </Form.Item>
        )}
        {stay === 'cookie' && (
          <Form.Item name="stayFor" label="Kept for" extra="0: until the browser ends.">
            <InputNumber min={0} suffix="s" />
          </Form.Item>
        )}
      </div>
      <h3>Set a target aside; 0 is never</h3>
      <div className="form">
        <Form.Item name="failures" label="After failures in a row">
          <InputNumber min={0} max={1000} />
        </Form.Item>
        <Form.Item name="points" label="With more failures than the others">
          <InputNumber min={0} max={100} suffix="points" />
        </Form.Item>
        <Form.Item name="slower" label="As slow as the others">
          <InputNumber min={0} max={1000} suffix="times" />
        </Form.Item>
        <Form.Item name="least" label="Of at least">
          <InputNumber min={1} suffix="requests" />
        </Form.Item>
        <Form.Item name="first" label="The first time for">
          <InputNumber min={1} max={3600} suffix="s" />
        </Form.Item>
        <Form.Item name="most" label="At most for">
          <InputNumber min={1} max={86400} suffix="s" />
        </Form.Item>
      </div>
      <h3>Limits of a target; 0 is none</h3>
      <div className="form">
        <Form.Item name="connect" label="To connect" extra="0: 2 s.">
          <InputNumber min={0} max={300} suffix="s" />
        </Form.Item>
        <Form.Item name="firstByte" label="To the first byte">
          <InputNumber min={0} suffix="s" />
        </Form.Item>
        <Form.Item name="idle" label="Between two parts">
          <InputNumber min={0} suffix="s" />
        </Form.Item>
        <Form.Item name="request" label="A whole request">
          <InputNumber min={0} suffix="s" />
        </Form.Item>
        <Form.Item name="bodyBytes" label="Size of a body">
          <InputNumber min={0} suffix="B" />
        </Form.Item>
      </div>
    </>
  )
}
