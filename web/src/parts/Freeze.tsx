import { Button, Form, Input, Modal } from 'antd'
import { useTellGroup } from '../api/queries'
import { Trouble } from './Trouble'

/** Asks why a group is frozen, and says what that stops. */
export function Freeze({ group, onClose }: { group: string; onClose: () => void }) {
  const tell = useTellGroup(group)
  return (
    <Modal open title={`Freeze ${group}`} footer={null} onCancel={() => onClose()}>
      <p>
        Healing, launching, shedding and rollouts stop until it is thawed. Its instances and their traffic go
        on, and are counted.
      </p>
      <Form<{ reason: string }>
        layout="vertical"
        requiredMark={false}
        onFinish={({ reason }) => tell.mutate({ command: 'freeze', reason }, { onSuccess: () => onClose() })}
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
      </Form>
    </Modal>
  )
}
