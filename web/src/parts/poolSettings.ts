import type { Pool } from '../api/client'

/** How groups share a pool's requests, in words. */
export function sharesText(p: Pool): string {
  return p.shares.map((s) => `${s.group} ${String(s.weight)}${s.reserve ? ', in reserve' : ''}`).join('; ')
}

/** The weights of single targets, in words. */
export function weightsText(p: Pool): string {
  return Object.entries(p.weights)
    .map(([i, w]) => `${i} ${String(w)}`)
    .join(', ')
}
