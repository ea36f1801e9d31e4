import { Form, InputNumber, Modal, Select } from 'antd'
import { usePlaces } from '../api/catalogue'
import { startDrill, useStartDrill, useZones, type NewDrill } from '../api/keeping'
import { Comes } from './Comes'
import { Draft, sentThen } from './Draft'
import { Notice } from './Notice'
import { Trouble } from './Trouble'

const kinds: { value: NewDrill['kind']; label: string }[] = [
  { value: 'hang', label: 'hang: its processes are stopped where they are' },
  { value: 'crash', label: 'crash: its processes are killed' },
  { value: 'burn', label: 'burn: a processor is kept busy beside them' },
  { value: 'slow', label: 'slow: its workload answers later, if it understands that' },
  { value: 'errors', label: 'errors: its workload answers a share with 500, if it understands that' },
  { value: 'zone', label: 'zone: the machines of a zone die, and none can be launched there' },
  { value: 'region', label: 'region: so do those of all zones of a region' },
]

interface Fields {
  kind: NewDrill['kind']
  instance?: string
  zone?: string
  region?: string
  seconds?: number
  slow?: number
  percent?: number
}

/** Whom it is about. */
function about(f: Fields): Pick<NewDrill, 'zone' | 'region' | 'instance'> {
  if (f.kind === 'zone') return { zone: f.zone ?? '' }
  if (f.kind === 'region') return { region: f.region ?? '' }
  return { instance: f.instance ?? '' }
}

const bodyOf = (f: Fields): NewDrill => ({
  kind: f.kind,
  ...about(f),
  for_seconds: f.seconds ?? 60,
  slow_seconds: f.slow ?? 2,
  error_percent: f.percent ?? 50,
})

/** Asks for a drill, and says what it will do. */
export function StartDrill({ instances, onClose }: { instances: string[]; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const kind = Form.useWatch('kind', form) as NewDrill['kind'] | undefined
  const start = useStartDrill()
  const zones = useZones()
  const places = usePlaces()
  const submit = (f: Fields) =>
    start.mutate({ body: bodyOf(f), dry: false }, { onSuccess: sentThen('drill', onClose) })
  return (
    <Modal
      open
      title="Make a fault on purpose"
      okText="Start the drill"
      okButtonProps={{ danger: true }}
      confirmLoading={start.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <Notice
        title={
          kind === 'zone' || kind === 'region'
            ? `All machines of the ${kind} die, of every group, and their requests in flight with them.`
            : 'This is done to a real instance that may have requests.'
        }
      >
        <div>The drill is journalled, ends by itself, and can be stopped before.</div>
      </Notice>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={{ kind: 'hang', instance: instances[0] ?? '', seconds: 60, slow: 2, percent: 50 }}
      >
        <Form.Item name="kind" label="What happens">
          <Select options={kinds} />
        </Form.Item>
        {kind === 'region' ? (
          <Form.Item name="region" label="Region" rules={[{ required: true, message: 'Choose a region.' }]}>
            <Select options={(places.data ?? []).map((r) => ({ value: r.name }))} />
          </Form.Item>
        ) : kind === 'zone' ? (
          <Form.Item name="zone" label="Zone" rules={[{ required: true, message: 'Choose a zone.' }]}>
            <Select options={(zones.data ?? []).map((z) => ({ value: z }))} />
          </Form.Item>
        ) : (
          <Form.Item name="instance" label="Instance" rules={[{ required: true, message: 'Choose one.' }]}>
            <Select showSearch options={instances.map((i) => ({ value: i }))} />
          </Form.Item>
        )}
        {kind !== 'crash' && (
          <Form.Item name="seconds" label="For">
            <InputNumber min={1} max={3600} suffix="s" />
          </Form.Item>
        )}
        {kind === 'slow' && (
          <Form.Item name="slow" label="How much later it answers">
            <InputNumber min={0.01} max={60} suffix="s" />
          </Form.Item>
        )}
        {kind === 'errors' && (
          <Form.Item name="percent" label="Share of requests">
            <InputNumber min={1} max={100} suffix="%" />
          </Form.Item>
        )}
        <Comes<Fields> ask={(f) => startDrill({ body: bodyOf(f), dry: true })} />
        <Trouble error={start.error} />
        <Draft of="drill" />
      </Form>
    </Modal>
  )
}
