import { Alert } from 'antd'

/** What went wrong with reading something, while what was read before stays. */
export function Trouble({ error }: { error: Error | null }) {
  if (!error) return null
  return <Alert type="error" showIcon title={error.message} role="alert" />
}
