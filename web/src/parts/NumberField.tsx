import { Form, InputNumber } from 'antd'
import type { ReactNode } from 'react'

/** A number of a form, with its bounds and its unit. */
export function NumberField(p: {
  name: string
  label: string
  min?: number
  max?: number
  unit?: string
  extra?: ReactNode
}) {
  return (
    <Form.Item name={p.name} label={p.label} extra={p.extra}>
      <InputNumber
        min={p.min ?? 0}
        {...(p.max === undefined ? {} : { max: p.max })}
        {...(p.unit === undefined ? {} : { suffix: p.unit })}
      />
    </Form.Item>
  )
}
