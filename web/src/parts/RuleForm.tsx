import { Button, Form, Input, InputNumber, Modal, Select, Switch } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useSaveRule, type Rule, type RuleForm as FormOf, type RuleReview } from '../api/rules'
import { CalendarFields, SteadyFields, TripFields } from './RuleFields'
import { fieldsOf, settingsOf, usualFields, type RuleFieldsOf } from './ruleSettings'
import { Notice } from './Notice'
import { Draft, sentThen } from './Draft'
import { Raced, useSeen } from './Stale'
import { Trouble } from './Trouble'
import { here } from './words'

const kinds = [
  { value: 'steady', label: 'steady: keep a metric near a value' },
  { value: 'trip', label: 'trip: act when a metric stays past a threshold' },
  { value: 'calendar', label: 'calendar: at certain times' },
]

const lines: Record<string, (r: Rule | null) => string> = {
  'What it says': (r) => r?.says ?? 'gone',
  Off: (r) => (r?.settings.off ? 'yes' : 'no'),
}

/** A rule to be made or changed: filled in, looked at, and then made. */
export function RuleForm({
  group: g,
  rule,
  onClose,
}: {
  group: Group
  rule: Rule | null
  onClose: () => void
}) {
  const [form] = Form.useForm<RuleFieldsOf>()
  const look = useSaveRule(g, rule !== null, true)
  const make = useSaveRule(g, rule !== null, false)
  const race = useSeen(rule, lines)
  const draft = `rule ${g.name} ${race.seen?.name ?? ''} ${race.seen?.says ?? ''}`
  const [kind, setKind] = useState(rule?.kind ?? 'steady')
  const [asked, setAsked] = useState<FormOf | null>(null)
  const review = asked ? look.data : undefined
  return (
    <Modal
      open
      width={760}
      title={rule ? `Change ${rule.name}` : `A rule for ${g.name}`}
      footer={null}
      onCancel={onClose}
    >
      <Form<RuleFieldsOf>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={rule ? fieldsOf(rule) : usualFields}
        onValuesChange={() => setAsked(null)}
        onFinish={(f) => {
          const wanted = { name: f.name.trim(), kind, settings: settingsOf(kind, f) }
          setAsked(wanted)
          look.mutate(wanted)
        }}
      >
        {!rule && (
          <div className="fields">
            <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
              <Input placeholder="even" />
            </Form.Item>
            <Form.Item label="Kind" htmlFor="rule-kind">
              <Select
                id="rule-kind"
                value={kind}
                options={kinds}
                onChange={(k) => {
                  setKind(k)
                  setAsked(null)
                }}
              />
            </Form.Item>
          </div>
        )}
        {kind === 'steady' && <SteadyFields />}
        {kind === 'trip' && <TripFields />}
        {kind === 'calendar' && <CalendarFields />}
        <Form.Item name="off" label="Off: it is shown and does nothing" valuePropName="checked">
          <Switch />
        </Form.Item>
        <Raced
          race={race}
          onGo={() => {
            setAsked(null)
            if (rule) form.setFieldsValue(fieldsOf(rule))
          }}
        />
        <Trouble error={look.error ?? make.error} />
        {review && <Review review={review} />}
        <div className="row">
          <Button htmlType="submit" type={review ? 'default' : 'primary'} loading={look.isPending}>
            Look at it
          </Button>
          {asked && review && (
            <Button
              type="primary"
              loading={make.isPending}
              disabled={race.changed.length > 0}
              onClick={() =>
                make.mutate(asked, {
                  onSuccess: sentThen(draft, onClose),
                })
              }
            >
              {rule ? 'Change it' : 'Make it'}
            </Button>
          )}
        </div>
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}

/** What a rule means, before it is made. */
export function Review({ review: r }: { review: RuleReview }) {
  const place = r.rule.settings.time_zone ?? 'UTC'
  const at = (t: string) =>
    new Date(t).toLocaleString(undefined, {
      timeZone: place,
      weekday: 'short',
      year: 'numeric',
      month: 'short',
      day: 'numeric',
      hour: '2-digit',
      minute: '2-digit',
      hour12: false,
      timeZoneName: 'short',
    })
  return (
    <div data-testid="rule-review" style={{ marginBottom: 12 }}>
      <p>
        <strong>{r.rule.name}</strong>: {r.rule.says}
      </p>
      {r.lasts_until && <p>It lasts now, until {at(r.lasts_until)}.</p>}
      {r.rule.kind === 'calendar' && r.next.length === 0 && <p>It never comes again.</p>}
      {r.next.length > 0 && (
        <>
          <p className="quiet">Its next times:</p>
          <ol className="times">
            {r.next.map((t) => (
              <li key={t}>{at(t)}</li>
            ))}
          </ol>
        </>
      )}
      {[...r.overlaps, ...r.advice].map((text) => (
        <Notice key={text} title={here(text)} />
      ))}
    </div>
  )
}

/** A number with its unit, as rules have many. */
export function NumberField({
  name,
  label,
  unit,
  extra,
}: {
  name: keyof RuleFieldsOf
  label: string
  unit: string
  extra?: string
}) {
  return (
    <Form.Item name={name} label={label} extra={extra}>
      <InputNumber min={0} suffix={unit} style={{ width: '100%' }} />
    </Form.Item>
  )
}
