import { Button, Form, Input, InputNumber, Select } from 'antd'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { useImages, usePlaces, useTemplates } from '../api/catalogue'
import { Refused, type Group, type NewGroup as Body } from '../api/client'
import { useChecks, useMakeGroup, usePools } from '../api/keeping'
import { Page } from '../parts/Page'
import { useTitle } from '../parts/title'
import { labelText } from '../parts/words'
import { Notice } from '../parts/Notice'
import { Draft, dropDraft } from '../parts/Draft'
import { Trouble } from '../parts/Trouble'
import { goodPairs, PairRows, pairsTo, type Pair } from '../parts/PairRows'

interface Fields {
  name: string
  template: string
  newTemplate: string
  image: string
  port: number
  zones: string[]
  spread: Group['spread']
  size: number
  min: number
  max: number
  pools: string[]
  drain: number
  heal: string
  limit: number
  settle: number
  labels: Pair[]
}

const fresh = 'new'
const fieldOf: Record<string, keyof Fields> = {
  drain_seconds: 'drain',
  heal_limit_percent: 'limit',
  'heal-limit': 'limit',
  settle_seconds: 'settle',
}

/**
 * Makes a group in the order in which people think: what runs, where, how many,
 * who gets traffic, how it is judged and healed, labels; then a review.
 */
export function NewGroup() {
  useTitle('A new group')
  const [form] = Form.useForm<Fields>()
  const [review, setReview] = useState<{ body: Body; group: Group } | null>(null)
  const templates = useTemplates()
  const images = useImages({ text: '', state: 'ready', origin: '', age: '', limit: 1000 })
  const places = usePlaces()
  const pools = usePools()
  const checks = useChecks()
  const look = useMakeGroup()
  const make = useMakeGroup()
  const navigate = useNavigate()
  const chosen = Form.useWatch('template', form) as string | undefined
  if (!templates.data || !places.data || !pools.data || !checks.data)
    return (
      <Page>
        <Trouble error={templates.error ?? places.error ?? pools.error ?? checks.error} />
      </Page>
    )
  const zones = places.data.flatMap((r) => r.zones.map((z) => z.name))
  const home = places.data.filter((r) => r.home).flatMap((r) => r.zones.map((z) => z.name))
  const ready = templates.data.filter((t) => t.state === 'ready').map((t) => `${t.name}@${t.version}`)
  const refused = (e: Error) => {
    if (!(e instanceof Refused)) return
    form.setFields(
      (e.problem.errors ?? []).map((x) => {
        const [, outer = '', inner = ''] = x.pointer.split('/')
        const field = outer === 'new_template' ? (inner === 'name' ? 'newTemplate' : inner) : outer
        return { name: fieldOf[field] ?? (field as keyof Fields), errors: [x.detail] }
      }),
    )
  }
  const check = (f: Fields) => {
    setReview(null)
    // A new template is made with the group, and neither before the review.
    const along = f.template === fresh
    const body = {
      name: f.name,
      template: along ? `${f.newTemplate}@1` : f.template,
      ...(along ? { new_template: { name: f.newTemplate, image: f.image, port: f.port } } : {}),
      zones: f.zones,
      spread: f.spread,
      size: f.size,
      min: f.min,
      max: f.max,
      pools: f.pools,
      drain_seconds: f.drain,
      heal: f.heal,
      heal_limit_percent: f.limit,
      settle_seconds: f.settle,
      labels: pairsTo(f.labels),
    } as Body // the service fills in the others
    look.mutate({ body, dry: true }, { onSuccess: (group) => setReview({ body, group }), onError: refused })
  }
  return (
    <Page>
      <h1 className="sentence">A new group</h1>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={check}
        onValuesChange={() => {
          setReview(null)
          look.reset() // what is still under way is of what stood there before
        }}
        initialValues={{
          template: ready[0] ?? fresh,
          port: 8080,
          zones: home,
          spread: 'even',
          size: home.length,
          min: 1,
          max: home.length * 2,
          pools: [],
          drain: 30,
          heal: 'machine',
          limit: 30,
          settle: 60,
          labels: [],
        }}
      >
        <h2>What runs</h2>
        <div className="form">
          <Form.Item
            name="name"
            label="Name"
            extra="A letter, then letters, digits or hyphens, 63 at most, no hyphen at the end."
            rules={[{ required: true, message: 'Give it a name.' }]}
          >
            <Input autoFocus />
          </Form.Item>
          <Form.Item name="template" label="Template version">
            <Select
              showSearch
              options={[...ready.map((value) => ({ value })), { value: fresh, label: 'a new template' }]}
            />
          </Form.Item>
          {chosen === fresh && (
            <>
              <Form.Item
                name="newTemplate"
                label="Name of the new template"
                rules={[{ required: true, message: 'Give it a name.' }]}
              >
                <Input />
              </Form.Item>
              <Form.Item name="image" label="Image" rules={[{ required: true, message: 'Choose an image.' }]}>
                <Select
                  showSearch
                  options={(images.data?.items ?? []).map((i) => ({ value: `${i.name}@${i.version}` }))}
                />
              </Form.Item>
              <Form.Item name="port" label="Port that it listens on">
                <InputNumber min={1} max={65535} />
              </Form.Item>
            </>
          )}
        </div>
        <h2>Where</h2>
        <div className="form">
          <Form.Item name="zones" label="Zones, in their order">
            <Select mode="multiple" options={zones.map((value) => ({ value }))} />
          </Form.Item>
          <Form.Item name="spread" label="Spread">
            <Select
              options={[
                { value: 'even', label: 'even' },
                { value: 'in-order', label: 'in-order: the first that takes machines' },
                { value: 'cheapest', label: 'cheapest: by the price of the template' },
              ]}
            />
          </Form.Item>
        </div>
        <h2>How many</h2>
        <div className="form">
          <Form.Item name="size" label="Size now">
            <InputNumber min={0} max={10000} />
          </Form.Item>
          <Form.Item name="min" label="Min, the least size">
            <InputNumber min={0} max={10000} />
          </Form.Item>
          <Form.Item name="max" label="Max, the bound whatever the size is now">
            <InputNumber min={0} max={10000} />
          </Form.Item>
        </div>
        <h2>Who gets traffic</h2>
        <div className="form">
          <Form.Item name="pools" label="Pools" extra="None: nothing sends it requests through Unitas.">
            <Select
              mode="multiple"
              onChange={(names: string[]) => {
                // Healed by the check of its pool, unless something else was chosen.
                const check = pools.data.find((p) => p.name === names[0])?.check
                if (check && form.getFieldValue('heal') === 'machine') form.setFieldValue('heal', check)
              }}
              options={pools.data.map((p) => ({
                value: p.name,
                label: `${p.name} on ${p.listeners.map((l) => l.address).join(', ')}`,
              }))}
            />
          </Form.Item>
          <Form.Item name="drain" label="Drain: how long one may finish its requests">
            <InputNumber min={0} max={3600} suffix="s" />
          </Form.Item>
        </div>
        <h2>How it is judged and healed</h2>
        <div className="form">
          <Form.Item name="heal" label="What makes an instance be replaced">
            <Select
              options={[
                { value: 'off', label: 'off: nothing' },
                { value: 'machine', label: 'machine: when it is gone' },
                { value: 'traffic', label: 'traffic: when its pools ejected it three times in a row' },
                ...checks.data.map((c) => ({
                  value: c.name,
                  label: `${c.name}: when it finds it unhealthy`,
                })),
              ]}
            />
          </Form.Item>
          <Form.Item name="limit" label="Heal limit" extra="Past this share at once it stops and asks.">
            <InputNumber min={1} max={100} suffix="%" />
          </Form.Item>
          <Form.Item name="settle" label="Settle: how long after boot to become healthy">
            <InputNumber min={1} max={3600} suffix="s" />
          </Form.Item>
        </div>
        <h2>Labels</h2>
        <Form.Item name="labels" rules={[goodPairs]}>
          <PairRows what="label" id="labels" />
        </Form.Item>
        <Trouble error={look.error} />
        {review && <Review group={review.group} along={review.body.new_template?.image} />}
        <Trouble error={make.error} />
        <div className="row">
          {review ? (
            <Button
              type="primary"
              loading={make.isPending}
              onClick={() =>
                make.mutate(
                  { body: review.body, dry: false },
                  {
                    onSuccess: (g) => {
                      dropDraft('new group')
                      void navigate(`/groups/${g.name}`)
                    },
                  },
                )
              }
            >
              Make {review.body.name}
            </Button>
          ) : (
            <Button type="primary" htmlType="submit" loading={look.isPending}>
              Review
            </Button>
          )}
          <Link to="/">Leave it</Link>
        </div>
        <Draft of="new group" />
      </Form>
    </Page>
  )
}

function Review({ group: g, along }: { group: Group; along: string | undefined }) {
  return (
    <section aria-label="Review" data-testid="review">
      <h2>Review</h2>
      <p>
        {g.name} launches {g.size} of {g.template} in {g.zones.join(', ')} ({g.spread}), and stays between{' '}
        {g.min} and {g.max}.{' '}
        {g.pools.length > 0 ? `It gets requests from ${g.pools.join(', ')}.` : 'It gets no requests.'} It
        heals by {g.heal}, at most {g.heal_limit_percent} % at once.
        {labelText(g.labels) && ` Its labels are ${labelText(g.labels)}.`}
        {along && ` The template ${g.template} is made with it and launches ${along}.`}
      </p>
      {g.advice.map((text) => (
        <Notice key={text} title={text} />
      ))}
      {g.zone_loss !== '' && <p>The loss of a zone: {g.zone_loss}.</p>}
      {g.advice.length === 0 && <p className="quiet">There is no advice against it.</p>}
    </section>
  )
}
