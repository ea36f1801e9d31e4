import { Button, Form, Input, InputNumber, Select } from 'antd'
import type { NewRollout } from '../api/client'

export type GateSettings = NonNullable<NewRollout['gates']>[number]

/** A gate as a form has it: an emptied number is null. */
export type GateFieldsOf = Pick<GateSettings, 'kind' | 'on_broken'> & {
  [K in keyof Omit<GateSettings, 'kind' | 'on_broken'>]?: GateSettings[K] | null
}

const usualRest = { warm_seconds: 0, min_requests: 0, on_undecided: 'go-on' as const }

/** A gate as a rollout has it unless told otherwise. */
export const usualGate: GateSettings = {
  kind: 'errors',
  on_broken: 'revert',
  ...usualRest,
  margin_percent: 0.5,
}

const kinds: { value: GateSettings['kind']; label: string }[] = [
  { value: 'errors', label: 'requests that fail' },
  { value: 'latency', label: 'answers that are slow' },
  { value: 'healthy', label: 'new instances that are well' },
  { value: 'serving', label: 'instances that serve' },
  { value: 'metric', label: 'samples of a metric' },
]

/** The limits of a gate of a kind, unless told otherwise. */
const usualLimits = (kind: GateSettings['kind'], size = 2) => ({
  margin_percent: kind === 'latency' ? 5 : kind === 'metric' ? 10 : 0.5,
  floor: kind === 'healthy' ? 100 : Math.max(1, size - 1),
})
const compares = (kind: GateSettings['kind'] | undefined) =>
  kind === 'errors' || kind === 'latency' || kind === 'metric'

/** What of a gate's fields counts for its kind: emptied ones are as usual. */
export function gateOf(g: GateFieldsOf): GateSettings {
  const { kind, on_broken, margin_percent: margin, floor } = g
  const rest = compares(kind)
    ? {
        warm_seconds: g.warm_seconds ?? 0,
        min_requests: g.min_requests ?? 0,
        on_undecided: g.on_undecided ?? usualRest.on_undecided,
      }
    : usualRest
  const limit = compares(kind)
    ? typeof margin === 'number' && { margin_percent: margin }
    : typeof floor === 'number' && { floor }
  const line =
    kind !== 'metric'
      ? {}
      : {
          metric: g.metric ?? 'cpu',
          ...(typeof g.below === 'number' ? { below: g.below } : { above: g.above ?? 90 }),
        }
  return { kind, on_broken, ...rest, ...limit, ...line }
}

/** The gates of a rollout, each with all that it can be told. */
export function GateFields({ size }: { size: number | undefined }) {
  const form = Form.useFormInstance()
  /** One of a kind that is not there, with what is usual for it. */
  const another = (): GateSettings => {
    const there = (form.getFieldValue('gates') as GateSettings[]).map((g) => g.kind)
    const kind = kinds.find((k) => !there.includes(k.value))?.value ?? 'errors'
    return { ...usualGate, kind, ...usualLimits(kind, size) }
  }
  return (
    <Form.Item
      label="Gates, looked at all the time"
      extra="Few requests do not decide, and looking often does not either."
    >
      <Form.List name="gates">
        {(fields, { add, remove }) => (
          <>
            {fields.map((f) => (
              <GateRow key={f.key} at={f.name} size={size} onRemove={() => remove(f.name)} />
            ))}
            {fields.length === 0 && (
              <p className="waiting">▲ Nothing is compared: only checks and machines hold the rollout.</p>
            )}
            {fields.length < 4 && (
              <Button size="small" onClick={() => add(another())}>
                Add a gate
              </Button>
            )}
          </>
        )}
      </Form.List>
    </Form.Item>
  )
}

function GateRow({ at, size, onRemove }: { at: number; size: number | undefined; onRemove: () => void }) {
  const form = Form.useFormInstance()
  const kind = Form.useWatch(['gates', at, 'kind'], form) as GateSettings['kind'] | undefined
  const least = Form.useWatch(['gates', at, 'min_requests'], form) as number | undefined
  /** Another kind starts from what is usual for it. */
  const onKind = (next: GateSettings['kind']) => {
    const { margin_percent: margin, floor } = usualLimits(next, size)
    form.setFieldValue(['gates', at, 'margin_percent'], margin)
    form.setFieldValue(['gates', at, 'floor'], floor)
  }
  return (
    <div className="row" style={{ marginBottom: 14, rowGap: 4, flexWrap: 'wrap' }} data-testid="gate">
      <Form.Item name={[at, 'kind']} noStyle>
        <Select aria-label="What is looked at" style={{ width: 210 }} options={kinds} onChange={onKind} />
      </Form.Item>
      {compares(kind) ? (
        <Amount
          name={[at, 'margin_percent']}
          label="Percent points by which the new may be worse"
          most={50}
          step={0.1}
          before="worse by over"
          after="points"
        />
      ) : (
        <Amount
          name={[at, 'floor']}
          label="Below what it breaks"
          most={kind === 'healthy' ? 100 : 10000}
          before="fewer than"
          after={kind === 'healthy' ? '%' : `of ${size ?? 'the size'}`}
        />
      )}
      {kind === 'metric' && (
        <>
          <Form.Item name={[at, 'metric']} noStyle initialValue="cpu">
            <Input aria-label="Metric" style={{ width: 150 }} />
          </Form.Item>
          <Form.Item name={[at, 'above']} noStyle initialValue={90}>
            <InputNumber aria-label="Above what a sample is bad" prefix="above" style={{ width: 150 }} />
          </Form.Item>
          <Form.Item name={[at, 'below']} noStyle>
            <InputNumber aria-label="Below what a sample is bad" prefix="or below" style={{ width: 150 }} />
          </Form.Item>
        </>
      )}
      <Form.Item name={[at, 'on_broken']} noStyle>
        <Select
          aria-label="When it breaks"
          style={{ width: 150 }}
          options={[
            { value: 'revert', label: 'go back by itself' },
            { value: 'hold', label: 'hold and ask' },
          ]}
        />
      </Form.Item>
      <Button size="small" onClick={onRemove}>
        Without it
      </Button>
      {compares(kind) && (
        <>
          <Amount
            name={[at, 'warm_seconds']}
            label="Seconds of a new instance that are left out"
            most={3600}
            before="without the first"
            after="s"
          />
          <Amount
            name={[at, 'min_requests']}
            label="Requests that new instances must have answered in a wave"
            most={1000000}
            before="needs"
            after="requests a wave"
          />
          {(least ?? 0) > 0 && (
            <Form.Item name={[at, 'on_undecided']} noStyle>
              <Select
                aria-label="When they were fewer"
                style={{ width: 150 }}
                options={[
                  { value: 'go-on', label: 'if fewer, go on' },
                  { value: 'extend', label: 'if fewer, soak on' },
                  { value: 'hold', label: 'if fewer, hold' },
                ]}
              />
            </Form.Item>
          )}
        </>
      )}
    </div>
  )
}

/** A number of a gate, with words before and after it. */
function Amount(p: {
  name: [number, string]
  label: string
  most: number
  step?: number
  before: string
  after: string
}) {
  return (
    <Form.Item name={p.name} noStyle>
      <InputNumber
        aria-label={p.label}
        min={0}
        max={p.most}
        step={p.step ?? 1}
        prefix={p.before}
        suffix={p.after}
        style={{ width: 210 }}
      />
    </Form.Item>
  )
}
