import { AutoComplete, Button, Form, Input, InputNumber, Select, Switch } from 'antd'
import { NumberField } from './RuleForm'
import type { ThresholdFields } from './ruleSettings'

const metrics = ['cpu', 'memory', 'requests', 'latency', 'network-in', 'network-out', 'scrape:', 'push:'].map(
  (value) => ({ value }),
)
const aggregates = ['average', 'maximum', 'total', 'p50', 'p95'].map((value) => ({ value }))

/** What a rule goes by. */
function GoesBy() {
  return (
    <div className="fields">
      <Form.Item
        name="metric"
        label="Metric"
        extra="scrape:NAME from the instance's own page, push:NAME from whoever sends it."
      >
        <AutoComplete options={metrics} />
      </Form.Item>
      <Form.Item name="aggregate" label="Aggregate over instances" extra="Or a percentile from p1 to p99.">
        <AutoComplete options={aggregates} />
      </Form.Item>
      <NumberField
        name="cooldown"
        label="Cooldown"
        unit="min"
        extra="After it acted it does not act again."
      />
    </div>
  )
}

export function SteadyFields() {
  return (
    <>
      <GoesBy />
      <div className="fields">
        <NumberField name="keep_at" label="Keep at" unit="" extra="Of a total, for one instance." />
        <NumberField name="band" label="Band" unit="%" extra="So far off nothing happens." />
        <NumberField name="calm" label="Calm" unit="min" extra="A lower need must last so long." />
        <NumberField
          name="shrink_rate"
          label="Shrink rate"
          unit="% a min"
          extra="It shrinks no faster than that."
        />
      </div>
      <div className="fields">
        <Form.Item name="grow_only" label="Grow only" valuePropName="checked">
          <Switch />
        </Form.Item>
        <Form.Item
          name="forecast"
          label="Forecast: grow early to what the same hour of the week needed"
          valuePropName="checked"
        >
          <Switch />
        </Form.Item>
      </div>
    </>
  )
}

const another: ThresholdFields = { way: 'above', at: 90, minutes: 1, step: '+50%' }

export function TripFields() {
  return (
    <>
      <GoesBy />
      <Form.Item label="Thresholds" extra="A step is a count (+2), a share (+50%), or a size (=8).">
        <Form.List name="thresholds">
          {(fields, { add, remove }) => (
            <>
              {fields.map((f) => (
                <div key={f.key} className="row" style={{ marginBottom: 6 }}>
                  <Form.Item name={[f.name, 'way']} noStyle>
                    <Select
                      aria-label="Above or below"
                      style={{ width: 90 }}
                      options={[{ value: 'above' }, { value: 'below' }]}
                    />
                  </Form.Item>
                  <Form.Item name={[f.name, 'at']} noStyle>
                    <InputNumber aria-label="Threshold" />
                  </Form.Item>
                  for
                  <Form.Item name={[f.name, 'minutes']} noStyle>
                    <InputNumber aria-label="Minutes" min={0} suffix="min" style={{ width: 110 }} />
                  </Form.Item>
                  :
                  <Form.Item name={[f.name, 'step']} noStyle>
                    <Input aria-label="Step" style={{ width: 80 }} />
                  </Form.Item>
                  <Button size="small" aria-label="Remove this threshold" onClick={() => remove(f.name)}>
                    Remove
                  </Button>
                </div>
              ))}
              {fields.length < 8 && (
                <Button size="small" onClick={() => add(another)}>
                  Add a threshold
                </Button>
              )}
            </>
          )}
        </Form.List>
      </Form.Item>
    </>
  )
}

export function CalendarFields() {
  return (
    <>
      <div className="fields">
        <Form.Item
          name="when"
          label="When"
          extra="A crontab line (30 5 * * 1-5), a recurrence (FREQ=WEEKLY;BYDAY=MO;BYHOUR=7), a time (2026-12-24 18:00), or now."
        >
          <Input />
        </Form.Item>
        <Form.Item name="time_zone" label="Time zone" extra="By its IANA name; summer time is kept.">
          <Input />
        </Form.Item>
        <NumberField name="duration" label="Duration" unit="min" extra="Empty is from then on." />
      </div>
      <div className="fields">
        <NumberField name="min" label="Min" unit="" extra="Empty leaves it as it is." />
        <NumberField name="max" label="Max" unit="" extra="Empty leaves it as it is." />
        <NumberField name="size" label="Size" unit="" extra="Empty leaves it as it is." />
      </div>
    </>
  )
}
