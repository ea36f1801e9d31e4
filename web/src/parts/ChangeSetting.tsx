import { Form, Input, InputNumber, Modal, Select, Switch } from 'antd'
import { useState, type ReactElement } from 'react'
import { useTemplates } from '../api/catalogue'
import type { Group } from '../api/client'
import { useChangeGroup, useChecks, usePools, useZones, type GroupChange } from '../api/keeping'
import { useCourses } from '../api/rollouts'
import { differences, isStale, Stale } from './Stale'
import { goodPairs, PairRows, pairsFrom, pairsTo, type Pair } from './PairRows'
import { Trouble } from './Trouble'
import { spreads } from './words'

interface SettingForm {
  title: string
  fields: (g: Group) => Fields
  /** The form items for the fields, and the change that they make. */
  items: (options: Options) => ReactElement
  change: (f: Fields) => GroupChange
}

type Fields = GroupChange & { labelRows?: Pair[] }

interface Options {
  templates: string[]
  zones: string[]
  pools: string[]
  checks: string[]
  courses: string[]
}

const choices = (values: string[]) => values.map((value) => ({ value }))

const forms: Record<string, SettingForm> = {
  size: {
    title: 'Size',
    fields: (g) => ({ min: g.min, size: g.size, max: g.max }),
    items: () => (
      <>
        <Form.Item name="min" label="Min, the least size">
          <InputNumber min={0} max={10000} />
        </Form.Item>
        <Form.Item name="size" label="Size now">
          <InputNumber min={0} max={10000} />
        </Form.Item>
        <Form.Item name="max" label="Max, the bound whatever the size is now">
          <InputNumber min={0} max={10000} />
        </Form.Item>
      </>
    ),
    change: (f) => f,
  },
  template: {
    title: 'Template for new launches',
    fields: (g) => ({ template: g.template }),
    items: ({ templates }) => (
      <Form.Item
        name="template"
        label="Template version"
        extra="For new launches only: what runs stays until a rollout replaces it."
      >
        <Select showSearch options={choices(templates)} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  zones: {
    title: 'Zones',
    fields: (g) => ({ zones: g.zones, spread: g.spread }),
    items: ({ zones }) => (
      <>
        <Form.Item name="zones" label="Zones, in their order">
          <Select mode="multiple" options={choices(zones)} />
        </Form.Item>
        <Form.Item name="spread" label="Spread">
          <Select
            options={Object.entries(spreads).map(([value, says]) => ({ value, label: `${value}: ${says}` }))}
          />
        </Form.Item>
      </>
    ),
    change: (f) => f,
  },
  above: {
    title: 'Above',
    fields: (g) => ({ above: g.above }),
    items: () => (
      <Form.Item
        name="above"
        label="How many more than the size there may be"
        extra="So that another serves before one that is replaced goes, and zones can be balanced."
      >
        <InputNumber min={0} max={1000} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  course: {
    title: 'Usual course',
    fields: (g) => ({ course: g.course }),
    items: ({ courses }) => (
      <Form.Item name="course" label="Course" extra="Its rollouts go by it unless another is chosen.">
        <Select options={[{ value: '', label: 'none' }, ...choices(courses)]} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  scrape: {
    title: 'Own metrics',
    fields: (g) => ({ scrape: g.scrape }),
    items: () => (
      <Form.Item
        name="scrape"
        label="Where its instances tell metrics"
        extra="A path, with a port before it where that is another: 9100/metrics."
      >
        <Input placeholder="/metrics" />
      </Form.Item>
    ),
    change: (f) => f,
  },
  hooks: {
    title: 'Hooks of one point',
    fields: (g) => ({ hooks_at_once: g.hooks_at_once }),
    items: () => (
      <Form.Item name="hooks_at_once" label="Hold all at once" valuePropName="checked">
        <Switch />
      </Form.Item>
    ),
    change: (f) => f,
  },
  pools: {
    title: 'Pools',
    fields: (g) => ({ pools: g.pools }),
    items: ({ pools }) => (
      <Form.Item name="pools" label="Pools that send it requests">
        <Select mode="multiple" options={choices(pools)} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  heal: {
    title: 'Heals by',
    fields: (g) => ({ heal: g.heal }),
    items: ({ checks }) => (
      <Form.Item name="heal" label="What makes an instance be replaced">
        <Select options={choices(['off', 'machine', 'traffic', ...checks])} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  'heal-limit': {
    title: 'Heal limit',
    fields: (g) => ({ heal_limit_percent: g.heal_limit_percent }),
    items: () => (
      <Form.Item
        name="heal_limit_percent"
        label="Share of the size, unhealthy at once, above which healing stops"
      >
        <InputNumber min={1} max={100} suffix="%" />
      </Form.Item>
    ),
    change: (f) => f,
  },
  shed: {
    title: 'Sheds',
    fields: (g) => ({ shed: g.shed }),
    items: () => (
      <Form.Item name="shed" label="Who goes first when it shrinks">
        <Select options={choices(['outdated', 'oldest', 'newest'])} />
      </Form.Item>
    ),
    change: (f) => f,
  },
  settle: {
    title: 'Settle',
    fields: (g) => ({ settle_seconds: g.settle_seconds }),
    items: () => (
      <Form.Item name="settle_seconds" label="How long after boot an instance may take to become healthy">
        <InputNumber min={1} max={3600} suffix="s" />
      </Form.Item>
    ),
    change: (f) => f,
  },
  drain: {
    title: 'Drain',
    fields: (g) => ({ drain_seconds: g.drain_seconds }),
    items: () => (
      <Form.Item name="drain_seconds" label="How long an instance may finish its requests">
        <InputNumber min={0} max={3600} suffix="s" />
      </Form.Item>
    ),
    change: (f) => f,
  },
  'pin-new': {
    title: 'Pins new ones',
    fields: (g) => ({ pin_new: g.pin_new }),
    items: () => (
      <Form.Item name="pin_new" label="Pin every new instance" valuePropName="checked">
        <Switch />
      </Form.Item>
    ),
    change: (f) => f,
  },
  labels: {
    title: 'Labels',
    fields: (g) => ({ labelRows: pairsFrom(g.labels) }),
    items: () => (
      <Form.Item name="labelRows" label="Labels" rules={[goodPairs]}>
        <PairRows what="label" id="labelRows" />
      </Form.Item>
    ),
    change: (f) => ({ labels: pairsTo(f.labelRows) }),
  },
}

/** What is said of each setting, for whoever is told what changed. */
const lines: Record<string, (g: Group) => string> = Object.fromEntries(
  Object.values(forms).map((s) => [s.title, (g: Group) => shown(s.fields(g))]),
)

function shown(fields: Fields): string {
  return (
    Object.entries(fields)
      .map(([name, value]) => {
        const text = Array.isArray(value)
          ? value.join(', ') || 'none'
          : JSON.stringify(value).replaceAll('"', '')
        return Object.keys(fields).length > 1 ? `${name} ${text}` : text
      })
      .join(', ') || 'none'
  )
}

/**
 * Asks for one setting of the group as it is now; before it is changed the service
 * says what that does, and what takes much of what serves is asked for once more.
 */
export function ChangeSetting({ group, name, onClose }: { group: Group; name: string; onClose: () => void }) {
  const setting = forms[name]
  if (!setting) throw new Error(`there is no setting ${name}`)
  return <Change group={group} setting={setting} onClose={onClose} />
}

function Change({ group, setting, onClose }: { group: Group; setting: SettingForm; onClose: () => void }) {
  const [seen, setSeen] = useState(group)
  const [sure, setSure] = useState(false)
  const [form] = Form.useForm<Fields>()
  const look = useChangeGroup()
  const change = useChangeGroup()
  const templates = useTemplates()
  const zones = useZones()
  const pools = usePools()
  const checks = useChecks()
  const courses = useCourses()
  const body = () => setting.change(form.getFieldsValue())
  const preview = () => {
    setSure(false)
    look.mutate({ group: seen, body: body(), dry: true })
  }
  const make = () => change.mutate({ group: seen, body: body(), dry: false }, { onSuccess: onClose })
  const submit = () => {
    if (sure) {
      make()
      return
    }
    look.mutate(
      { group: seen, body: body(), dry: true },
      { onSuccess: (g) => (g.caution ? setSure(true) : make()) },
    )
  }
  const takeOver = () => {
    setSeen(group)
    setSure(false)
    look.reset()
    change.reset()
    form.setFieldsValue(setting.fields(group))
  }
  const stale = isStale(change.error)
  const caution = look.data?.caution
  return (
    <Modal
      open
      title={`${group.name}: ${setting.title.toLowerCase()}`}
      okText={sure ? 'Do it all the same' : 'Change it'}
      okButtonProps={{ danger: sure, disabled: stale }}
      confirmLoading={change.isPending}
      onOk={submit}
      onCancel={onClose}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={setting.fields(seen)}
        onValuesChange={preview}
      >
        {setting.items({
          templates: (templates.data ?? [])
            .filter((t) => t.state === 'ready')
            .map((t) => `${t.name}@${t.version}`),
          zones: zones.data ?? [],
          pools: (pools.data ?? []).map((p) => p.name),
          checks: (checks.data ?? []).map((c) => c.name),
          courses: (courses.data ?? []).map((c) => c.name),
        })}
      </Form>
      {look.data && <p aria-live="polite">This happens then: {(look.data.effects ?? []).join(', ')}.</p>}
      {caution && (
        <p className="trouble" role="alert">
          ▲ Mind: {caution}.
        </p>
      )}
      {stale ? (
        <Stale changed={differences(seen, group, lines)} onTakeOver={takeOver} />
      ) : (
        <Trouble error={change.error ?? look.error} />
      )}
    </Modal>
  )
}
