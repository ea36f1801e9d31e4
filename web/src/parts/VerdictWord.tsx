import type { Instance } from '../api/client'

/** A verdict as a word with its mark. */
export function VerdictWord({ verdict }: { verdict: Instance['verdict'] }) {
  if (verdict === 'unhealthy') return <span className="trouble">▲ unhealthy</span>
  if (verdict === 'unknown') return <span className="waiting">? unknown</span>
  return <span>● healthy</span>
}
