import { expect, it } from 'vitest'
import type { Group } from '../api/client'
import { rank, titleOf } from '../parts/footing'

function group(
  name: string,
  footing: Group['summary']['footing'],
  serving: number,
  needs: string[] = [],
  more: Partial<Group> = {},
) {
  return { name, size: 6, frozen: '', summary: { footing, serving, needs }, ...more } as Group
}

it('orders by how much a group wants to be looked at', () => {
  const all = [
    group('a', 'whole', 6),
    group('b', 'moving', 5),
    group('c', 'whole', 6, ['held']),
    group('d', 'short', 3),
    group('e', 'out', 0),
  ]
  expect(
    all
      .sort((x, y) => rank(x) - rank(y))
      .map((g) => g.name)
      .join(''),
  ).toBe('edcba')
})

it('puts the state before the name in the title', () => {
  expect(titleOf(group('fares', 'out', 0))).toBe('■ 0/6 fares')
  expect(titleOf(group('fares', 'whole', 6))).toBe('6/6 fares')
  expect(titleOf(group('fares', 'whole', 6, ['held']))).toBe('❚❚ 6/6 fares')
})
