import { expect, it } from 'vitest'
import { applied } from '../api/changes'
import type { Instance, JournalEntry } from '../api/client'
import { concerned } from '../api/concerns'

const instance = (id: string, more: Partial<Instance> = {}) =>
  ({ id, group: 'timetable', state: 'serving', in_flight: 0, ...more }) as Instance
const told = (more: Partial<Parameters<typeof applied>[1]>) => ({
  cursor: 'm-1',
  complete: false,
  items: [],
  gone: [],
  in_flight: {},
  ...more,
})

it('keeps what is not other as it is, and the list when nothing is', () => {
  const before = [instance('timetable-001'), instance('timetable-002', { in_flight: 3 })]
  expect(applied(before, told({ in_flight: { 'timetable-002': 3 } }))).toBe(before)
  const after = applied(before, told({ items: [instance('timetable-001', { state: 'draining' })] }))
  expect(after.map((i) => [i.id, i.state, i.in_flight])).toEqual([
    ['timetable-001', 'draining', 0],
    ['timetable-002', 'serving', 0],
  ])
  expect(applied(before, told({ in_flight: { 'timetable-001': 1, 'timetable-002': 3 } }))[1]).toBe(before[1])
})

it('puts new ones where they belong, and forgets those that are gone', () => {
  const before = [instance('timetable-009'), instance('timetable-00a'), instance('tender', { group: '' })]
  const after = applied(
    before,
    told({
      gone: ['timetable-009'],
      items: [
        instance('timetable-1000'),
        instance('timetable-00b'),
        instance('fares-001', { group: 'fares' }),
      ],
    }),
  )
  expect(after.map((i) => i.id)).toEqual([
    'fares-001',
    'tender',
    'timetable-00a',
    'timetable-00b',
    'timetable-1000',
  ])
})

it('is what is told when that is all', () => {
  const only = [instance('timetable-003')]
  expect(applied([instance('timetable-001')], told({ complete: true, items: only }))).toEqual(only)
})

it('reads again what an entry is about, and not what it is not', () => {
  const entry = (kind: string, more: Partial<JournalEntry> = {}) => ({ kind, ...more }) as JournalEntry
  const one = entry('instance.serving', { group: 'timetable', instance: 'timetable-001' })
  const cases: [unknown[], JournalEntry, boolean][] = [
    [['live', 'group', 'timetable'], one, true],
    [['live', 'group', 'fares'], one, false],
    [['live', 'groups'], one, true],
    [['live', 'instances', '', false], one, true],
    [['live', 'instances', 'fares', false], one, false],
    [['live', 'instance', 'timetable-001'], one, true],
    [['live', 'instance', 'timetable-002'], one, false],
    [['live', 'pool', 'front'], one, true],
    [['live', 'images', ''], one, false],
    [['live', 'journal', 'timetable', 50], one, true],
    [['live', 'pool', 'front'], entry('rollout.soaking', { group: 'timetable', rollout: 3 }), false],
    [['live', 'rollout', 'timetable'], entry('rollout.soaking', { group: 'timetable', rollout: 3 }), true],
    [
      ['live', 'journal-of', 'timetable-002'],
      entry('zone.lost', { group: 'timetable', instances: ['timetable-002'] }),
      true,
    ],
    [['live', 'images', ''], entry('image.imported'), true],
    [['live', 'templates', 'timetable-web'], entry('image.imported'), false],
    [['live', 'checks'], entry('check.changed'), true],
    [['live', 'group', 'timetable'], entry('check.changed'), true],
    [['live', 'what nobody thought of'], one, true],
  ]
  for (const [key, e, want] of cases) expect(concerned(key, e), `${key.join(' ')} after ${e.kind}`).toBe(want)
})
