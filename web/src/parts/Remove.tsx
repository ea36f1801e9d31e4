import { Button } from 'antd'
import { Sure } from './Sure'

/** Removes something by name, after it has said what goes with it. */
export function Remove({ name, goes, onRemove }: { name: string; goes: string; onRemove: () => void }) {
  return (
    <Sure
      title={`Remove ${name}?`}
      description={goes}
      okText="Remove it"
      okButtonProps={{ danger: true }}
      onConfirm={onRemove}
    >
      <Button size="small" danger aria-label={`Remove ${name}`}>
        Remove…
      </Button>
    </Sure>
  )
}
