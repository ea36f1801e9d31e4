import { Button, Form, Input, Modal } from 'antd'
import type { Group } from '../api/client'
import { useTellGroup } from '../api/queries'
import { Draft, sentThen } from './Draft'
import { Trouble } from './Trouble'

/** Asks why a group is frozen, and says what that stops. */
export function Freeze({ group, onClose }: { group: Group; onClose: () => void }) {
  const tell = useTellGroup(group)
  const draft = `freeze of ${group.name}`
  return (
    <Modal open title={`Freeze ${group.name}`} footer={null} onCancel={() => onClose()}>
      <p>
        Healing, launching, shedding and rollouts stop until it is thawed. Its instances and their traffic go
        on, and are counted.
      </p>
      <Form<{ reason: string }>
        layout="vertical"
        requiredMark={false}
        onFinish={({ reason }) =>
          tell.mutate({ command: 'freeze', reason }, { onSuccess: sentThen(draft, onClose) })
        }
      >
        <Form.Item
          name="reason"
          label="Reason"
          extra="Everybody who looks at the group is told."
          rules={[{ required: true, message: 'Say why.' }]}
        >
          <Input />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={tell.isPending}>
          Freeze it
        </Button>
        <Trouble error={tell.error} />
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
