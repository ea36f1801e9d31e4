import { Checkbox, Form, Input, InputNumber, Modal, Select, Space } from 'antd'
import { Refused, type Group, type NewRollout } from '../api/client'
import { useStartRollout, useTemplateVersions } from '../api/queries'
import { Trouble } from '../parts/Trouble'

interface Fields {
  to: string
  waves: string
  above: number
  below: number
  soak: number
  broken: 'revert' | 'hold' | 'none'
  margin: number
  latency: boolean
}

/** The gates of a rollout: on errors, and, by wish, on how long answers take. */
function gatesOf(broken: 'revert' | 'hold', margin: number, latency: boolean): NewRollout['gates'] {
  const rest = { broken, warm_seconds: 0, least: 0, undecided: 'go-on' as const }
  const errors = { kind: 'errors' as const, margin_percent: margin, ...rest }
  return latency ? [errors, { kind: 'latency', ...rest }] : [errors]
}

/** Asks what a rollout needs, and says what each answer means. */
export function StartRollout({ group, onClose }: { group: Group; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const templates = useTemplateVersions(group.template.split('@')[0] ?? '')
  const start = useStartRollout(group.name)
  const others = (templates.data ?? [])
    .map((t) => ({
      value: `${t.name}@${t.version}`,
      label: `${t.name}@${t.version}  ${t.image}${t.note ? `: ${t.note}` : ''}`,
    }))
    .filter((t) => t.value !== group.template)
  const submit = (f: Fields) => {
    const body: NewRollout = {
      to: f.to,
      waves: f.waves.split(',').map((w) => w.trim()),
      above: f.above,
      below: f.below,
      soak_seconds: f.soak,
      gates: f.broken === 'none' ? [] : gatesOf(f.broken, f.margin, f.latency),
    }
    start.mutate(body, {
      onSuccess: onClose,
      onError: (e) => {
        if (!(e instanceof Refused)) return
        for (const field of ['to', 'waves', 'above', 'below'] as const) {
          const text = e.about(field)
          if (text) form.setFields([{ name: field, errors: [text] }])
        }
      },
    })
  }
  return (
    <Modal
      open
      title={`Replace the ${group.size} instances of ${group.name}`}
      okText="Start the rollout"
      cancelText="Cancel"
      confirmLoading={start.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={{
          waves: '1, 50%, 100%',
          above: 1,
          below: 0,
          soak: 30,
          broken: 'revert',
          margin: 0.5,
          latency: false,
          ...(others[0] ? { to: others[0].value } : {}),
        }}
        key={others[0]?.value ?? 'none'}
      >
        <Form.Item
          name="to"
          label="Template version to go to"
          extra={`The group is on ${group.template}.`}
          rules={[{ required: true, message: 'Choose a version.' }]}
        >
          <Select
            options={others}
            loading={templates.isPending}
            notFoundContent={`There is no other version of this template; make one with: unitas template revise`}
          />
        </Form.Item>
        <Form.Item
          name="waves"
          label="Waves"
          extra="How far each goes before it soaks: a number of instances or a share. The last is 100%."
        >
          <Input />
        </Form.Item>
        <Form.Item
          name="above"
          label="Above"
          extra={`How many instances more than ${group.size} there may be meanwhile.`}
        >
          <InputNumber min={0} max={1000} />
        </Form.Item>
        <Form.Item
          name="below"
          label="Below"
          extra={`How many serving instances fewer than ${group.size} there may be meanwhile.`}
        >
          <InputNumber min={0} max={group.size} />
        </Form.Item>
        <Form.Item
          name="soak"
          label="Soak, seconds"
          extra="How long each wave must stay good before the next begins."
        >
          <InputNumber min={0} max={86400} suffix="s" />
        </Form.Item>
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
        <Form.Item name="latency" valuePropName="checked" noStyle>
          <Checkbox>
            The same when more of their answers are slow: slower than 95 of 100 of the old version's
          </Checkbox>
        </Form.Item>
        <Trouble error={start.error} />
      </Form>
    </Modal>
  )
}
