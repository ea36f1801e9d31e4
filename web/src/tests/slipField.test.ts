import { expect, it } from 'vitest'
import type { Instance } from '../api/client'
import { edgeOf, keyOf, lookOf } from '../parts/slipLook'
import { between, goes, layoutOf, nextInTrouble, placeOf, slipAt, summaryOf, tile } from '../parts/slipField'

const instance = (id: string, zone: string, more: Partial<Instance> = {}) =>
  ({
    id,
    zone,
    version: 'timetable-web@2',
    state: 'serving',
    verdict: 'healthy',
    tickets: [],
    ...more,
  }) as unknown as Instance

const zones = ['east-pier', 'mid-pier', 'west-pier']
const all = Array.from({ length: 10_000 }, (_, k) => instance(`timetable-${String(k)}`, zones[k % 3] ?? ''))
const width = tile.label + 7 * (tile.width + tile.gap)

it('puts every slip in a place of its own, where a pointer finds it', () => {
  const l = layoutOf(zones, all, width)
  expect(l.columns).toBe(7)
  expect(l.order.length).toBe(10_000)
  const places = new Set<string>()
  for (let n = 0; n < l.order.length; n++) {
    const { x, y } = placeOf(l, n)
    places.add(`${String(x)},${String(y)}`)
    expect(slipAt(l, x + 1, y + 1)).toBe(n)
    expect(y + tile.height).toBeLessThan(l.height)
  }
  expect(places.size).toBe(10_000)
  expect(slipAt(l, 3, 3)).toBe(-1)
  expect(slipAt(l, width + 50, 3)).toBe(-1)
})

it('paints what is seen, and a field of a zone without instances', () => {
  const l = layoutOf([...zones, 'north-slip'], all, width)
  const seen = between(l, 1000, 1440)
  expect(seen.length).toBeGreaterThan(100)
  expect(seen.length).toBeLessThan(150)
  for (const n of [0, 9999, ...Array.from({ length: 50 }, (_, k) => k * 199)]) {
    const { y } = placeOf(l, n)
    expect(seen.includes(n), String(n)).toBe(y > 1000 - tile.height - tile.gap && y <= 1440)
  }
  expect(between(l, 0, l.height).length).toBe(10_000)
})

it('goes through all by keys, over the ends of zones', () => {
  const l = layoutOf(zones, all.slice(0, 30), width)
  expect(goes(l, 0, 'ArrowDown')).toBe(7)
  expect(goes(l, 7, 'ArrowUp')).toBe(0)
  expect(goes(l, 9, 'ArrowDown')).toBe(10)
  expect(goes(l, 10, 'ArrowUp')).toBe(7) // what is above it in the zone before
  expect(goes(l, 29, 'ArrowRight')).toBe(29)
  expect(goes(l, 3, 'End')).toBe(29)
  expect(goes(l, 3, 'Home')).toBe(0)
  expect(goes(l, 3, 'x')).toBeUndefined()
})

it('finds the next in trouble, from the beginning again, and tells a zone in words', () => {
  const bad = all.map((i, k) => (k === 5 || k === 300 ? { ...i, verdict: 'unhealthy' as const } : i))
  const l = layoutOf(zones, bad, width)
  const first = nextInTrouble(l, -1)
  const second = nextInTrouble(l, first)
  expect([first, second].map((n) => l.order[n]?.verdict)).toEqual(['unhealthy', 'unhealthy'])
  expect(nextInTrouble(l, second)).toBe(first)
  expect(nextInTrouble(layoutOf(zones, all, width), 3)).toBe(-1)
  expect(summaryOf('west-pier', l.zones[2]?.slips ?? [])).toBe(
    'west-pier: 3,333 instances, 3,332 serving, 1 unhealthy',
  )
})

it('looks the same however it is painted', () => {
  const look = (more: Partial<Instance>) => lookOf(instance('timetable-001', 'east-pier', more))
  const held = [{ at: 'retire', state: 'open' }] as unknown as Instance['tickets']
  for (const [more, shape, verdict, edge] of [
    [{}, 'serving', 'healthy', 'tone'],
    [{ verdict: 'unhealthy' }, 'serving', 'unhealthy', 'trouble'],
    [{ state: 'settling', verdict: 'unknown' }, 'rising', 'unknown', 'quiet'],
    [{ state: 'settling', verdict: 'unknown', overdue: true }, 'serving', 'unhealthy', 'trouble'],
    [{ state: 'held', verdict: 'unknown' }, 'rising', 'none', 'quiet'],
    [{ state: 'held', tickets: held }, 'leaving', 'none', 'quiet'],
    [{ state: 'draining', verdict: 'unhealthy' }, 'leaving', 'none', 'quiet'],
    [{ state: 'lost' }, 'lost', 'none', 'trouble'],
    [{ state: 'parked', verdict: 'unhealthy' }, 'parked', 'none', 'quiet'],
    [{ state: 'resting' }, 'parked', 'none', 'quiet'],
  ] as [Partial<Instance>, string, string, string][]) {
    const l = look(more)
    expect([l.shape, l.verdict, edgeOf(l)], JSON.stringify(more)).toEqual([shape, verdict, edge])
  }
  const all = [look({}), look({ pinned: true }), look({ state: 'held' }), lookOf(instance('a', 'b'), true)]
  expect(new Set(all.map(keyOf)).size).toBe(4)
})
