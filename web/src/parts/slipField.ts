import type { Instance } from '../api/client'

/** The measures of a field of small slips, in CSS pixels. */
export const tile = { width: 26, height: 22, gap: 4, label: 90, zoneGap: 10 }

/** Where the slips of a field are: row after row in each zone, the zones below each other. */
export interface Layout {
  columns: number
  height: number
  zones: { zone: string; top: number; from: number; slips: Instance[] }[]
  /** All slips in the order in which arrows go through them. */
  order: Instance[]
}

/** Lays the instances of zones out in a width. */
export function layoutOf(zones: string[], instances: Instance[], width: number): Layout {
  const step = tile.width + tile.gap
  const columns = Math.max(1, Math.floor((width - tile.label) / step))
  const byZone = new Map<string, Instance[]>(zones.map((z) => [z, []]))
  for (const i of instances) byZone.get(i.zone)?.push(i)
  let top = 0
  const order: Instance[] = []
  const laid = zones.map((zone) => {
    const slips = byZone.get(zone) ?? []
    const at = { zone, top, from: order.length, slips }
    order.push(...slips)
    top += Math.max(1, Math.ceil(slips.length / columns)) * (tile.height + tile.gap) + tile.zoneGap
    return at
  })
  return { columns, height: top, zones: laid, order }
}

/** Where the slip of a number in the order is. */
export function placeOf(l: Layout, n: number): { x: number; y: number } {
  const zone = l.zones.findLast((z) => z.from <= n && z.slips.length > 0) ?? l.zones[0]
  const k = n - (zone?.from ?? 0)
  return {
    x: tile.label + (k % l.columns) * (tile.width + tile.gap),
    y: (zone?.top ?? 0) + Math.floor(k / l.columns) * (tile.height + tile.gap),
  }
}

/** The number of the slip at a point, -1 when there is none. */
export function slipAt(l: Layout, x: number, y: number): number {
  const zone = l.zones.findLast((z) => z.top <= y)
  const column = Math.floor((x - tile.label) / (tile.width + tile.gap))
  if (!zone || x < tile.label || column >= l.columns) return -1
  const k = Math.floor((y - zone.top) / (tile.height + tile.gap)) * l.columns + column
  return k < zone.slips.length ? zone.from + k : -1
}

/** The slips between two heights, for who paints no others. */
export function between(l: Layout, top: number, bottom: number): number[] {
  const row = tile.height + tile.gap
  return l.zones.flatMap((z) => {
    const first = Math.max(0, Math.floor((top - z.top) / row)) * l.columns
    const last = Math.min(z.slips.length, (Math.floor((bottom - z.top) / row) + 1) * l.columns)
    return last > first ? Array.from({ length: last - first }, (_, k) => z.from + first + k) : []
  })
}

export const inTrouble = (i: Instance) => i.overdue || i.state === 'lost' || i.verdict === 'unhealthy'

/** The number of the next in trouble after one, from the beginning again; -1 when there is none. */
export function nextInTrouble(l: Layout, after: number): number {
  const found = l.order.findIndex((i, n) => n > after && inTrouble(i))
  return found >= 0 ? found : l.order.findIndex(inTrouble)
}

/** Where a key goes from a slip; undefined for keys that go nowhere. */
export function goes(l: Layout, n: number, key: string): number | undefined {
  const last = l.order.length - 1
  const below = (dy: number) => {
    const { x, y } = placeOf(l, n)
    const to = slipAt(l, x, y + dy)
    return to >= 0 ? to : n
  }
  switch (key) {
    case 'ArrowRight':
      return Math.min(n + 1, last)
    case 'ArrowLeft':
      return Math.max(n - 1, 0)
    case 'ArrowDown': {
      const to = below(tile.height + tile.gap)
      return to !== n ? to : (l.zones.find((z) => z.from > n && z.slips.length > 0)?.from ?? n)
    }
    case 'ArrowUp': {
      const to = below(-(tile.height + tile.gap))
      return to !== n
        ? to
        : Math.max((l.zones.findLast((z) => z.from <= n && z.slips.length > 0)?.from ?? 0) - 1, 0)
    }
    case 'Home':
      return 0
    case 'End':
      return last
    case 'n':
      return Math.max(nextInTrouble(l, n), 0)
  }
  return undefined
}

/** A zone in words, for who does not see its slips. */
export function summaryOf(zone: string, slips: Instance[]): string {
  const counts = new Map<string, number>()
  for (const i of slips) {
    const what = inTrouble(i) ? (i.state === 'lost' ? 'lost' : 'unhealthy') : i.state
    counts.set(what, (counts.get(what) ?? 0) + 1)
  }
  const parts = [...counts].sort((a, b) => b[1] - a[1]).map(([what, n]) => `${n.toLocaleString()} ${what}`)
  return `${zone}: ${slips.length.toLocaleString()} instances${parts.length > 0 ? `, ${parts.join(', ')}` : ''}`
}
