import { AutoComplete, Button, Form, Input, InputNumber, Select, Switch } from 'antd'
import { NumberField } from './RuleForm'
import type { LineFields } from './ruleSettings'

const metrics = ['cpu', 'memory', 'requests', 'latency', 'network-in', 'network-out', 'scrape:', 'push:'].map(
  (value) => ({ value }),
)
const overs = ['average', 'maximum', 'total', 'p50', 'p95'].map((value) => ({ value }))

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
      <Form.Item name="over" label="Over all instances" extra="Or a percentile from p1 to p99.">
        <AutoComplete options={overs} />
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
        <NumberField name="target" label="Keep it near" unit="" extra="Of a total, for one instance." />
        <NumberField name="band" label="Band" unit="%" extra="So far off nothing happens." />
        <NumberField name="calm" label="Calm" unit="min" extra="A lower need must last so long." />
        <NumberField name="pace" label="Pace" unit="% a min" extra="It goes no faster than that." />
      </div>
      <div className="fields">
        <Form.Item name="grow_only" label="Grow only" valuePropName="checked">
          <Switch />
        </Form.Item>
        <Form.Item
          name="foresee"
          label="Foresee: grow early to what the same hour of the week needed"
          valuePropName="checked"
        >
          <Switch />
        </Form.Item>
      </div>
    </>
  )
}

const another: LineFields = { way: 'above', at: 90, minutes: 1, step: '+50%' }

export function TripFields() {
  return (
    <>
      <GoesBy />
      <Form.Item
        label="Lines"
        extra="A step is a count (+2), a share (+50%), or a size (=8). The metric is sampled every 15 s."
      >
        <Form.List name="lines">
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
                    <InputNumber aria-label="Line" />
                  </Form.Item>
                  for
                  <Form.Item name={[f.name, 'minutes']} noStyle>
                    <InputNumber aria-label="Minutes" min={0} suffix="min" style={{ width: 110 }} />
                  </Form.Item>
                  :
                  <Form.Item name={[f.name, 'step']} noStyle>
                    <Input aria-label="Step" style={{ width: 80 }} />
                  </Form.Item>
                  <Button size="small" aria-label="Remove this line" onClick={() => remove(f.name)}>
                    Remove
                  </Button>
                </div>
              ))}
              {fields.length < 8 && (
                <Button size="small" onClick={() => add(another)}>
                  Add a line
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
        <Form.Item name="in" label="By the clock of" extra="An IANA time zone; summer time is kept.">
          <Input />
        </Form.Item>
        <NumberField name="span" label="For" unit="min" extra="Empty is from then on." />
      </div>
      <div className="fields">
        <NumberField name="min" label="Min" unit="" extra="Empty leaves it as it is." />
        <NumberField name="max" label="Max" unit="" extra="Empty leaves it as it is." />
        <NumberField name="size" label="Size" unit="" extra="Empty leaves it as it is." />
      </div>
    </>
  )
}
