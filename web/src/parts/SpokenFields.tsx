import { Form, Input, Select } from 'antd'
import { NumberField } from './NumberField'
import type { SpokenFields as Fields } from './spokenSettings'

/** The fields of a form for how targets are spoken to, kept, ejected and limited. */
export function SpokenFields() {
  const form = Form.useFormInstance()
  const protocol = Form.useWatch('protocol', form) as Fields['protocol'] | undefined
  const affinity = Form.useWatch('affinityBy', form) as Fields['affinityBy'] | undefined
  return (
    <>
      <div className="form">
        <Form.Item name="protocol" label="Protocol of targets">
          <Select
            options={[
              { value: 'http', label: 'http: HTTP/1.1 in clear' },
              { value: 'http2', label: 'http2: HTTP/2 in clear' },
              { value: 'https', label: 'https: with TLS' },
            ]}
          />
        </Form.Item>
        {protocol === 'https' && (
          <>
            <Form.Item name="trust" label="Trusted by" extra="host, anyone, or the name of a certificate.">
              <Input />
            </Form.Item>
            <Form.Item name="serverName" label="The name that they must have" extra="Empty: their address.">
              <Input />
            </Form.Item>
          </>
        )}
        <Form.Item name="affinityBy" label="Affinity: callers stay at a target by">
          <Select
            options={[{ value: 'none' }, { value: 'cookie' }, { value: 'header' }, { value: 'address' }]}
          />
        </Form.Item>
        {affinity === 'header' && (
          <Form.Item name="affinityHeader" label="Header">
            <Input />
          </Form.Item>
        )}
        {affinity === 'cookie' && (
          <NumberField name="affinityFor" label="Kept for" extra="0: until the browser ends." unit="s" />
        )}
      </div>
      <h3>Eject a target; 0 is never</h3>
      <div className="form">
        <NumberField name="failures" label="After failures in a row" max={1000} />
        <NumberField name="points" label="With more failures than the others" max={100} unit="points" />
        <NumberField name="slower" label="As slow as the others" max={1000} unit="times" />
        <NumberField name="least" label="Of at least" min={1} unit="requests" />
        <NumberField name="first" label="The first time for" min={1} max={3600} unit="s" />
        <NumberField name="most" label="At most for" min={1} max={86400} unit="s" />
      </div>
      <h3>Limits of a target; 0 is none</h3>
      <div className="form">
        <NumberField name="connect" label="To connect" extra="0: 2 s." max={300} unit="s" />
        <NumberField name="firstByte" label="To the first byte" unit="s" />
        <NumberField name="idle" label="Between two parts" unit="s" />
        <NumberField name="request" label="A whole request" unit="s" />
        <NumberField name="bodyBytes" label="Size of a body" unit="B" />
      </div>
    </>
  )
}
