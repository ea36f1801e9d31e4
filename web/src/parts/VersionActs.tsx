import { Button, Form, Input, Modal, Select } from 'antd'
import { useState } from 'react'
import { useImages, useTemplates, useVersionChange, type Kind } from '../api/catalogue'
import { Draft, sentThen } from './Draft'
import { Trouble } from './Trouble'
import { Sure } from './Sure'

interface Version {
  name: string
  version: number
  state: string
  revision: number
}

interface Props {
  kind: Kind
  version: Version
  /** What goes on with it when it is withdrawn. */
  meanwhile: string
  /** What a deletion takes away. */
  goes: string
  onDeleted: () => void
}

/** What a person may do with one version of an image or template. */
export function VersionActs({ kind, version: v, meanwhile, goes, onDeleted }: Props) {
  const change = useVersionChange(kind, v.name, v.version)
  const [asking, setAsking] = useState<'withdraw' | 'mark' | null>(null)
  const ref = `${v.name}@${v.version}`
  const close = () => setAsking(null)
  return (
    <>
      <div className="row acts">
        {(v.state === 'ready' || v.state === 'withdrawn') && (
          <Button size="small" onClick={() => setAsking('mark')}>
            Mark…
          </Button>
        )}
        {v.state === 'ready' && (
          <Button size="small" onClick={() => setAsking('withdraw')}>
            Withdraw…
          </Button>
        )}
        {v.state !== 'baking' && (
          <Sure
            title={`Delete ${ref}?`}
            description={goes}
            okText="Delete"
            okButtonProps={{ danger: true }}
            onConfirm={() =>
              change.mutate({ do: 'delete', match: `"${v.revision}"` }, { onSuccess: onDeleted })
            }
          >
            <Button size="small" danger>
              Delete…
            </Button>
          </Sure>
        )}
      </div>
      {asking === null && <Trouble error={change.error} />}
      {asking === 'mark' && (
        <Modal open title={`Put a mark on ${ref}`} footer={null} onCancel={close}>
          <Form<{ mark: string }>
            layout="vertical"
            requiredMark={false}
            onFinish={({ mark }) => change.mutate({ do: 'mark', mark }, { onSuccess: close })}
          >
            <Form.Item
              name="mark"
              label="Mark"
              extra={`It moves here from whichever version of ${v.name} has it now.`}
              rules={[{ required: true, message: 'Give a name, such as stable.' }]}
            >
              <Input placeholder="stable" />
            </Form.Item>
            <Trouble error={change.error} />
            <Button type="primary" htmlType="submit" loading={change.isPending}>
              Put it here
            </Button>
          </Form>
        </Modal>
      )}
      {asking === 'withdraw' && (
        <Modal open title={`Withdraw ${ref}`} footer={null} onCancel={close}>
          <p>
            New use is refused from now on, for good. {meanwhile} What runs stays, and its groups show an
            advice.
          </p>
          <Form<{ reason: string; successor?: string }>
            layout="vertical"
            requiredMark={false}
            onFinish={({ reason, successor }) =>
              change.mutate(
                { do: 'withdraw', match: `"${v.revision}"`, reason, successor: successor ?? '' },
                { onSuccess: sentThen(`withdrawal of ${ref}`, close) },
              )
            }
          >
            <Form.Item
              name="reason"
              label="Reason"
              extra="Whoever wants to use it is told."
              rules={[{ required: true, message: 'Say why.' }]}
            >
              <Input autoFocus />
            </Form.Item>
            <Form.Item name="successor" label="Use instead">
              {kind === 'image' ? <OtherImage but={ref} /> : <OtherTemplate but={ref} />}
            </Form.Item>
            <Trouble error={change.error} />
            <Draft of={`withdrawal of ${ref}`} />
            <Button type="primary" danger htmlType="submit" loading={change.isPending}>
              Withdraw it
            </Button>
          </Form>
        </Modal>
      )}
    </>
  )
}

/** What the field of a form gives to its control. */
interface Field {
  value?: string
  onChange?: (v: string | undefined) => void
  id?: string
}

const choice = (all: { name: string; version: number; state: string }[] | undefined, but: string) =>
  (all ?? [])
    .filter((o) => o.state === 'ready' && `${o.name}@${o.version}` !== but)
    .map((o) => ({ value: `${o.name}@${o.version}` }))

function OtherTemplate({ but, ...field }: Field & { but: string }) {
  const all = useTemplates()
  return <Select allowClear showSearch placeholder="nothing" options={choice(all.data, but)} {...field} />
}

function OtherImage({ but, ...field }: Field & { but: string }) {
  const all = useImages({ text: '', state: 'ready', origin: '', age: '', limit: 1000 })
  return (
    <Select allowClear showSearch placeholder="nothing" options={choice(all.data?.items, but)} {...field} />
  )
}
