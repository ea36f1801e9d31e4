import { AutoComplete, Button, Checkbox, Form, Input, InputNumber, Select } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useImages, useMakeTemplate, useTemplates } from '../api/catalogue'
import { Refused, type NewTemplate, type Template, type TemplateRevision } from '../api/client'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Changes } from '../parts/Changes'
import { useTitle } from '../parts/title'
import { goodPairs, PairRows, pairsFrom, pairsTo, type Pair } from '../parts/PairRows'
import { Draft, dropDraft } from '../parts/Draft'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { Facts } from './Template'

interface Fields {
  name: string
  from?: number
  image: string
  port: number
  cpus: number
  memory: number // MiB
  disk: number // MiB
  processes: number
  addresses: number
  ports: { port: number; protocol: 'tcp' | 'udp'; sources: string[] }[]
  price: number
  interruptible: boolean
  environment: Pair[]
  labels: Pair[]
  user_data: string
  note: string
}

const MiB = 1 << 20

const fresh: Partial<Fields> = {
  port: 8080,
  cpus: 1,
  memory: 256,
  disk: 1024,
  processes: 512,
  addresses: 1,
  ports: [{ port: 8080, protocol: 'tcp', sources: ['127.0.0.0/8'] }],
  price: 0,
  interruptible: false,
  environment: [],
  labels: [],
  user_data: '',
  note: '',
}

/** Makes a template, or the next version of one, after a review. */
export function TemplateForm() {
  useTitle('A template version')
  const { name } = useParams()
  const versions = useTemplates(name)
  if (name !== undefined && !versions.data) {
    return (
      <Page>
        <Trouble error={versions.error} />
        <Loading lines={12} />
      </Page>
    )
  }
  return <Flow name={name} versions={name === undefined ? [] : (versions.data ?? [])} />
}

function Flow({ name, versions }: { name: string | undefined; versions: Template[] }) {
  const [form] = Form.useForm<Fields>()
  const [review, setReview] = useState<{ body: NewTemplate & TemplateRevision; template: Template } | null>(
    null,
  )
  const make = useMakeTemplate(name)
  const navigate = useNavigate()
  const first = versions[0]
  const look = (f: Fields) => {
    const body = bodyOf(f, name)
    make.mutate(
      { body, dry: true },
      {
        onSuccess: (template) => {
          setReview({ body, template })
          window.scrollTo(0, 0)
        },
        onError: (e) => showFaults(e, (fields) => form.setFields(fields)),
      },
    )
  }
  const draft = `template ${name ?? ''} ${String(first?.version ?? 0)}`
  const done = (t: Template) => {
    dropDraft(draft)
    void navigate(`/templates/${t.name}`)
  }
  return (
    <Page>
      <h1>{name === undefined ? 'New template' : `The next version of ${name}`}</h1>
      <p className="quiet">
        Nothing is made before you have seen a review of it.{' '}
        {name !== undefined && 'The version is never edited afterwards; a change makes another.'}
      </p>
      <div hidden={review !== null}>
        <Form<Fields>
          form={form}
          layout="vertical"
          requiredMark={false}
          onFinish={look}
          initialValues={first ? { ...fieldsOf(first), from: first.version, note: '' } : fresh}
        >
          <Questions
            isNew={name === undefined}
            versions={versions}
            onFrom={(t) => form.setFieldsValue({ ...fieldsOf(t), from: t.version })}
          />
          <Trouble error={make.error} />
          <div className="row">
            <Button type="primary" htmlType="submit" loading={make.isPending}>
              Review
            </Button>
            <Link to={name === undefined ? '/templates' : `/templates/${name}`}>Cancel</Link>
          </div>
          <Draft of={draft} />
        </Form>
      </div>
      {review && (
        <Review
          template={review.template}
          busy={make.isPending}
          error={make.error}
          onBack={() => setReview(null)}
          onMake={() => make.mutate({ body: review.body, dry: false }, { onSuccess: done })}
        />
      )}
    </Page>
  )
}

/** Every field with what it means. */
function Questions(props: { isNew: boolean; versions: Template[]; onFrom: (t: Template) => void }) {
  const images = useImages({ text: '', state: 'ready', origin: '', age: '', limit: 200 })
  const refs = (images.data?.items ?? []).flatMap((i) => [
    `${i.name}@${i.version}`,
    ...i.marks.map((m) => `${i.name}@${m}`),
  ])
  const needed = (message: string) => [{ required: true, message }]
  return (
    <div className="form">
      {props.isNew ? (
        <Form.Item
          name="name"
          label="Name"
          extra="A lower-case letter, then letters, digits or hyphens; 63 at most, no hyphen at the end."
          rules={needed('Give it a name.')}
        >
          <Input placeholder="timetable-web" />
        </Form.Item>
      ) : (
        <Form.Item name="from" label="Start from" extra="All that you do not change is as in this version.">
          <Select
            options={props.versions.map((t) => ({
              value: t.version,
              label: `${t.name}@${t.version}${t.note ? `: ${t.note}` : ''}`,
            }))}
            onChange={(n: number) => {
              const t = props.versions.find((v) => v.version === n)
              if (t) props.onFrom(t)
            }}
          />
        </Form.Item>
      )}
      <Form.Item
        name="image"
        label="Image"
        extra="The version that machines start from, by number or mark; the number is recorded."
        rules={needed('Choose an image.')}
      >
        <AutoComplete
          options={refs.map((value) => ({ value }))}
          placeholder="timetable@3"
          showSearch={{ filterOption: (typed, o) => (o?.value ?? '').includes(typed) }}
        />
      </Form.Item>
      <Form.Item
        name="port"
        label="Workload port"
        extra="Where the workload listens; requests and checks go there."
      >
        <InputNumber min={1} max={65535} />
      </Form.Item>
      <Form.Item name="cpus" label="CPUs" extra="Processors for one instance, also in parts.">
        <InputNumber min={0.1} max={512} step={0.5} />
      </Form.Item>
      <Form.Item name="memory" label="Memory" extra="For one instance.">
        <InputNumber min={1} suffix="MiB" />
      </Form.Item>
      <Form.Item
        name="disk"
        label="Disk"
        extra="Room for the files of one instance; an image that does not fit is not launched."
      >
        <InputNumber min={1} suffix="MiB" />
      </Form.Item>
      <Form.Item name="processes" label="Processes" extra="And threads that one instance may have at once.">
        <InputNumber min={16} max={1000000} />
      </Form.Item>
      <Form.Item name="addresses" label="Network addresses" extra="How many an instance gets.">
        <InputNumber min={1} max={8} />
      </Form.Item>
      <Form.Item
        name="price"
        label="Price per hour"
        extra="Of one instance, in the currency that you count in."
      >
        <InputNumber min={0} step={0.01} />
      </Form.Item>
      <div className="whole">
        <Form.Item
          label="Open ports"
          extra="Ports that an instance opens, and the address ranges that may come in."
        >
          <Form.List name="ports">
            {(fields, { add, remove }) => (
              <>
                {fields.map((f) => (
                  <div className="row port" key={f.key}>
                    <Form.Item name={[f.name, 'port']} rules={needed('Which port?')}>
                      <InputNumber min={1} max={65535} aria-label="port" />
                    </Form.Item>
                    <Form.Item name={[f.name, 'protocol']}>
                      <Select aria-label="protocol" options={[{ value: 'tcp' }, { value: 'udp' }]} />
                    </Form.Item>
                    <Form.Item name={[f.name, 'sources']}>
                      <Select
                        mode="tags"
                        aria-label="sources"
                        placeholder="10.0.0.0/8"
                        style={{ minWidth: 320 }}
                        tokenSeparators={[',', ' ']}
                      />
                    </Form.Item>
                    <Button type="text" onClick={() => remove(f.name)}>
                      Remove
                    </Button>
                  </div>
                ))}
                <Button
                  size="small"
                  onClick={() => add({ port: 8080, protocol: 'tcp', sources: ['127.0.0.0/8'] })}
                >
                  Add a port
                </Button>
              </>
            )}
          </Form.List>
        </Form.Item>
      </div>
      <Form.Item
        name="environment"
        label="Environment"
        extra="Variables for the workload."
        rules={[goodPairs]}
      >
        <PairRows what="variable" id="environment" />
      </Form.Item>
      <Form.Item name="labels" label="Labels" extra="For finding and counting instances." rules={[goodPairs]}>
        <PairRows what="label" id="labels" />
      </Form.Item>
      <Form.Item
        className="whole mono"
        name="user_data"
        label="User data"
        extra="Runs once at first boot, before the workload, as the instance's user: a script that begins with #!, or a #cloud-config with write_files and runcmd."
      >
        <Input.TextArea rows={10} />
      </Form.Item>
      <Form.Item
        name="interruptible"
        valuePropName="checked"
        extra="Its machine may be taken away at short notice for a lower price."
      >
        <Checkbox>Interruptible</Checkbox>
      </Form.Item>
      <Form.Item
        name="note"
        label="Note"
        extra="Why there is this version."
        {...(props.isNew ? {} : { rules: needed('Say why there is a new version.') })}
      >
        <Input maxLength={500} />
      </Form.Item>
    </div>
  )
}

function Review(props: {
  template: Template
  busy: boolean
  error: Error | null
  onBack: () => void
  onMake: () => void
}) {
  const t = props.template
  const advice = t.advice ?? []
  return (
    <section aria-label="review" data-testid="review">
      <p className="sentence">
        {t.name}@{t.version} would launch {t.image}
        {t.changes ? `, with ${count(t.changes.length, 'change')} from ${t.name}@${t.revised_from}` : ''}.
      </p>
      {advice.length === 0 ? (
        <p className="quiet">There is no advice against it.</p>
      ) : (
        advice.map((a) => (
          <p key={a.text} className="waiting">
            ▲ {a.field}: {a.text}
          </p>
        ))
      )}
      {t.changes && (
        <>
          <h2>What changes</h2>
          <Changes changes={t.changes} was={`${t.name}@${t.revised_from}`} now={`${t.name}@${t.version}`} />
        </>
      )}
      <h2>All of it</h2>
      <Facts template={t} />
      <Trouble error={props.error} />
      <div className="row" style={{ marginTop: 20 }}>
        <Button type="primary" loading={props.busy} onClick={props.onMake}>
          Make {t.name}@{t.version}
        </Button>
        <Button onClick={props.onBack}>Back to the form</Button>
      </div>
    </section>
  )
}

function fieldsOf(t: Template): Omit<Fields, 'from' | 'note'> {
  return {
    name: t.name,
    image: t.image,
    port: t.port,
    cpus: t.cpus,
    memory: t.memory_bytes / MiB,
    disk: t.disk_bytes / MiB,
    processes: t.processes,
    addresses: t.addresses,
    ports: t.ports.map((p) => ({ port: p.port, protocol: p.protocol, sources: p.sources ?? [] })),
    price: t.price_per_hour,
    interruptible: t.interruptible,
    environment: pairsFrom(t.environment),
    labels: pairsFrom(t.labels),
    user_data: t.user_data,
  }
}

function bodyOf(f: Fields, name: string | undefined): NewTemplate & TemplateRevision {
  return {
    name: name ?? f.name,
    ...(f.from === undefined ? {} : { from: f.from }),
    image: f.image,
    port: f.port,
    cpus: f.cpus,
    memory_bytes: Math.round(f.memory * MiB),
    disk_bytes: Math.round(f.disk * MiB),
    processes: f.processes,
    addresses: f.addresses,
    ports: f.ports,
    price_per_hour: f.price,
    interruptible: f.interruptible,
    user_data: f.user_data,
    environment: pairsTo(f.environment),
    labels: pairsTo(f.labels),
    note: f.note,
  }
}

const places: Partial<Record<string, (string | number)[]>> = {
  memory_bytes: ['memory'],
  disk_bytes: ['disk'],
  price_per_hour: ['price'],
}

/** Puts every fault that the service named at its field. */
function showFaults(error: Error, set: (fields: { name: never; errors: string[] }[]) => void) {
  if (!(error instanceof Refused)) return
  const faults = new Map<string, string[]>()
  for (const e of error.problem.errors ?? []) {
    const parts = e.pointer.replace(/^\//, '').split('/')
    const [field, index, part] = [parts[0] ?? '', parts.at(1), parts.at(2)]
    const at =
      field === 'ports' && index !== undefined
        ? ['ports', Number(index), part ?? 'port']
        : (places[field] ?? [field])
    const key = JSON.stringify(at)
    faults.set(key, [...(faults.get(key) ?? []), e.detail])
  }
  set([...faults].map(([at, errors]) => ({ name: JSON.parse(at) as never, errors })))
}
