import { Form, InputNumber, Select, Space } from 'antd'
import type { Course } from '../api/rollouts'
import { HoursOfDay } from './HoursField'
import { WaveRows, waveFrom, waveTo, type WaveRow } from './WaveRows'
import { GateFields, gateOf, usualGate, type GateFieldsOf } from './GateFields'

/** What a course says, as a form has it. */
export interface CourseFieldsOf {
  waves: WaveRow[]
  above: number
  below: number
  soak: number
  gates: GateFieldsOf[]
  order: 'mixed' | 'zone-by-zone' | 'oldest-first'
  pace: 'in-waves' | 'at-once'
  hours: string
}

export const usualCourse: CourseFieldsOf = {
  waves: ['1', '25%', '100%'].map(waveFrom),
  above: 1,
  below: 0,
  soak: 30,
  gates: [usualGate],
  order: 'mixed',
  pace: 'in-waves',
  hours: '',
}

/** The fields that a course fills in. */
export function fieldsOf({ settings: s }: Course): CourseFieldsOf {
  return {
    waves: s.waves.map(waveFrom),
    above: s.above,
    below: s.below,
    soak: s.soak_seconds,
    gates: s.gates.map(gateOf),
    order: s.order,
    pace: s.pace,
    hours: s.hours,
  }
}

/** Those of a form that a course has as well. */
export const pick = ({
  waves,
  above,
  below,
  soak,
  gates,
  order,
  pace,
  hours,
}: CourseFieldsOf): CourseFieldsOf => ({
  waves,
  above,
  below,
  soak,
  gates,
  order,
  pace,
  hours,
})

/** The settings that the fields stand for. */
export function settingsOf(f: CourseFieldsOf) {
  return {
    waves: f.waves.map(waveTo),
    above: f.above,
    below: f.below,
    soak_seconds: f.soak,
    gates: f.gates.map(gateOf),
    order: f.order,
    pace: f.pace,
    hours: f.hours,
  }
}

/** How far, how many at once, how long, and what is compared. */
export function CourseFields({ size }: { size: number | undefined }) {
  return (
    <>
      <Form.Item
        name="waves"
        label="Waves"
        extra="How far each goes before it soaks. They go up, and the last is all."
      >
        <WaveRows />
      </Form.Item>
      <Space size="large" align="start" wrap>
        <Form.Item name="above" label="Above" extra={`So many more than ${size ?? 'the size'}, meanwhile.`}>
          <InputNumber min={0} max={1000} />
        </Form.Item>
        <Form.Item name="below" label="Below" extra={`So many fewer than ${size ?? 'the size'} may serve.`}>
          <InputNumber min={0} max={size ?? 10000} />
        </Form.Item>
        <Form.Item name="soak" label="Soak, seconds" extra="How long a wave must stay good.">
          <InputNumber min={0} max={86400} suffix="s" />
        </Form.Item>
      </Space>
      <GateFields size={size} />
    </>
  )
}

/** In which order, and at what pace. */
export function OrderFields({ pace }: { pace: string | undefined }) {
  return (
    <Space size="large" align="start" wrap>
      <Form.Item name="order" label="Order">
        <Select
          style={{ width: 250 }}
          options={[
            { value: 'mixed', label: 'mixed over the zones' },
            { value: 'zone-by-zone', label: 'zone by zone' },
            { value: 'oldest-first', label: 'oldest first' },
          ]}
        />
      </Form.Item>
      <Form.Item
        name="pace"
        label="Pace"
        extra={pace === 'at-once' ? '▲ Nobody serves meanwhile; for test groups.' : undefined}
      >
        <Select
          style={{ width: 200 }}
          options={[
            { value: 'in-waves', label: 'in waves' },
            { value: 'at-once', label: 'all at once' },
          ]}
        />
      </Form.Item>
    </Space>
  )
}

/** At which hours of the day it may replace. */
export function HoursField() {
  return (
    <Form.Item name="hours" label="Only in these hours" extra="Empty for any; past midnight is fine.">
      <HoursOfDay />
    </Form.Item>
  )
}
