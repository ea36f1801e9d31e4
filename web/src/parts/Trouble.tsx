import { Notice } from './Notice'
import { here } from './words'

/** What went wrong with reading something, while what was read before stays. */
export function Trouble({ error }: { error: Error | null }) {
  if (!error) return null
  return <Notice bad title={here(error.message)} />
}
