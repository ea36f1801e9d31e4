import { Button, Form, InputNumber, Select } from 'antd'
import type { NewRollout } from '../api/client'

export type GateSettings = NonNullable<NewRollout['gates']>[number]

/** A gate as a form has it: an emptied number is null. */
export type GateFieldsOf = Pick<GateSettings, 'kind' | 'broken'> & {
  [K in keyof Omit<GateSettings, 'kind' | 'broken'>]?: GateSettings[K] | null
}

const usualRest = { warm_seconds: 0, least: 0, undecided: 'go-on' as const }

/** A gate as a rollout has it unless told otherwise. */
export const usualGate: GateSettings = { kind: 'errors', broken: 'revert', ...usualRest, margin_percent: 0.5 }

const kinds: { value: GateSettings['kind']; label: string }[] = [
  { value: 'errors', label: 'requests that fail' },
  { value: 'latency', label: 'answers that are slow' },
  { value: 'healthy', label: 'new instances that are well' },
  { value: 'serving', label: 'instances that serve' },
]

const usualMargin = (kind: GateSettings['kind']) => (kind === 'latency' ? 5 : 0.5)
const usualFloor = (kind: GateSettings['kind'], size = 2) =>
  kind === 'healthy' ? 100 : Math.max(1, size - 1)
const compares = (kind: GateSettings['kind'] | undefined) => kind === 'errors' || kind === 'latency'

/** What of a gate's fields counts for its kind: emptied ones are as usual. */
export function gateOf(g: GateFieldsOf): GateSettings {
  const { kind, broken, margin_percent: margin, floor } = g
  const rest = compares(kind)
    ? {
        warm_seconds: g.warm_seconds ?? 0,
        least: g.least ?? 0,
        undecided: g.undecided ?? usualRest.undecided,
      }
    : usualRest
  const limit = compares(kind)
    ? typeof margin === 'number' && { margin_percent: margin }
    : typeof floor === 'number' && { floor }
  return { kind, broken, ...rest, ...limit }
}

/** The gates of a rollout, each with all that it can be told. */
export function GateFields({ size }: { size: number | undefined }) {
  const form = Form.useFormInstance()
  const taken = () => (form.getFieldValue('gates') as GateSettings[]).map((g) => g.kind)
  /** One of a kind that is not there, with what is usual for it. */
  const another = (there: GateSettings['kind'][]): GateSettings => {
    const kind = kinds.find((k) => !there.includes(k.value))?.value ?? 'errors'
    return { ...usualGate, kind, margin_percent: usualMargin(kind), floor: usualFloor(kind, size) }
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
            {fields.length < kinds.length && (
              <Button size="small" onClick={() => add(another(taken()))}>
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
  const least = Form.useWatch(['gates', at, 'least'], form) as number | undefined
  /** Another kind starts from what is usual for it. */
  const onKind = (next: GateSettings['kind']) => {
    form.setFieldValue(['gates', at, 'margin_percent'], usualMargin(next))
    form.setFieldValue(['gates', at, 'floor'], usualFloor(next, size))
  }
  return (
    <div className="row" style={{ marginBottom: 14, rowGap: 4, flexWrap: 'wrap' }} data-testid="gate">
      <Form.Item name={[at, 'kind']} noStyle>
        <Select aria-label="What is looked at" style={{ width: 210 }} options={kinds} onChange={onKind} />
      </Form.Item>
      {compares(kind) ? (
        <Form.Item name={[at, 'margin_percent']} noStyle>
          <InputNumber
            aria-label="Percent points by which the new may be worse"
            min={0}
            max={50}
            step={0.1}
            prefix="worse by over"
            suffix="points"
            style={{ width: 205 }}
          />
        </Form.Item>
      ) : (
        <Form.Item name={[at, 'floor']} noStyle>
          <InputNumber
            aria-label="Below what it breaks"
            min={0}
            max={kind === 'healthy' ? 100 : 10000}
            prefix="fewer than"
            suffix={kind === 'healthy' ? '%' : `of ${size ?? 'the size'}`}
            style={{ width: 205 }}
          />
        </Form.Item>
      )}
      <Form.Item name={[at, 'broken']} noStyle>
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
          <Form.Item name={[at, 'warm_seconds']} noStyle>
            <InputNumber
              aria-label="Seconds of a new instance that are left out"
              min={0}
              max={3600}
              prefix="without the first"
              suffix="s"
              style={{ width: 210 }}
            />
          </Form.Item>
          <Form.Item name={[at, 'least']} noStyle>
            <InputNumber
              aria-label="Requests that new instances must have answered in a wave"
              min={0}
              max={1000000}
              prefix="needs"
              suffix="requests a wave"
              style={{ width: 205 }}
            />
          </Form.Item>
          {(least ?? 0) > 0 && (
            <Form.Item name={[at, 'undecided']} noStyle>
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
