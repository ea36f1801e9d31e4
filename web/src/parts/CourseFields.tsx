import { Checkbox, Form, Input, InputNumber, Select, Space } from 'antd'
import type { NewRollout } from '../api/client'
import type { Course } from '../api/rollouts'

/** What a course says, as a form has it. */
export interface CourseFieldsOf {
  waves: string
  above: number
  below: number
  soak: number
  broken: 'revert' | 'hold' | 'none'
  margin: number
  latency: boolean
  order: 'mixed' | 'zone-by-zone' | 'oldest-first'
  pace: 'in-waves' | 'at-once'
  hours: string
}

export const usualCourse: CourseFieldsOf = {
  waves: '1, 25%, 100%',
  above: 1,
  below: 0,
  soak: 30,
  broken: 'revert',
  margin: 0.5,
  latency: false,
  order: 'mixed',
  pace: 'in-waves',
  hours: '',
}

/** The fields that a course fills in. */
export function fieldsOf({ settings: s }: Course): CourseFieldsOf {
  const errors = s.gates.find((g) => g.kind === 'errors')
  return {
    waves: s.waves.join(', '),
    above: s.above,
    below: s.below,
    soak: s.soak_seconds,
    broken: errors?.broken ?? 'none',
    margin: errors?.margin_percent ?? 0.5,
    latency: s.gates.some((g) => g.kind === 'latency'),
    order: s.order,
    pace: s.pace,
    hours: s.hours,
  }
}

/** The gates of a rollout: on errors, and, by wish, on how long answers take. */
function gatesOf(f: CourseFieldsOf): NonNullable<NewRollout['gates']> {
  if (f.broken === 'none') return []
  const rest = { broken: f.broken, warm_seconds: 0, least: 0, undecided: 'go-on' as const }
  const errors = { kind: 'errors' as const, margin_percent: f.margin, ...rest }
  return f.latency ? [errors, { kind: 'latency', ...rest }] : [errors]
}

/** Those of a form that a course has as well. */
export const pick = ({
  waves,
  above,
  below,
  soak,
  broken,
  margin,
  latency,
  order,
  pace,
  hours,
}: CourseFieldsOf): CourseFieldsOf => ({
  waves,
  above,
  below,
  soak,
  broken,
  margin,
  latency,
  order,
  pace,
  hours,
})

/** The settings that the fields stand for. */
export function settingsOf(f: CourseFieldsOf) {
  return {
    waves: f.waves.split(',').map((w) => w.trim()),
    above: f.above,
    below: f.below,
    soak_seconds: f.soak,
    gates: gatesOf(f),
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
        extra="How far each goes before it soaks: a number of instances or a share, and after a colon a soak of its own, such as 1:2m. The last is 100%."
      >
        <Input />
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
      <Form.Item
        label="When requests to the new instances fail more often than to the old ones"
        extra="Compared every second, by a test that few requests do not decide."
      >
        <Space>
          <Form.Item name="broken" noStyle>
            <Select
              style={{ width: 220 }}
              options={[
                { value: 'revert', label: 'go back by itself' },
                { value: 'hold', label: 'hold and ask' },
                { value: 'none', label: 'do not compare' },
              ]}
            />
          </Form.Item>
          <Form.Item name="margin" noStyle>
            <InputNumber
              min={0}
              max={50}
              step={0.1}
              prefix="by over"
              suffix="points"
              style={{ width: 210 }}
            />
          </Form.Item>
        </Space>
      </Form.Item>
      <Form.Item name="latency" valuePropName="checked" style={{ marginBottom: 8 }}>
        <Checkbox>
          The same when more of their answers are slow: slower than 95 of 100 of the old version's
        </Checkbox>
      </Form.Item>
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
