import { expect, it } from 'vitest'
import type { Group } from '../api/client'
import { rank, titleOf } from '../parts/condition'

function group(
  name: string,
  condition: Group['summary']['condition'],
  serving: number,
  needs: string[] = [],
  more: Partial<Group> = {},
) {
  return { name, size: 6, frozen: '', summary: { condition, serving, needs }, ...more } as Group
}

it('orders by how much a group wants to be looked at', () => {
  const all = [
    group('a', 'complete', 6),
    group('b', 'changing', 5),
    group('c', 'complete', 6, ['held']),
    group('d', 'short', 3),
    group('e', 'down', 0),
  ]
  expect(
    all
      .sort((x, y) => rank(x) - rank(y))
      .map((g) => g.name)
      .join(''),
  ).toBe('edcba')
})

it('puts the state before the name in the title', () => {
  expect(titleOf(group('fares', 'down', 0))).toBe('■ 0/6 fares')
  expect(titleOf(group('fares', 'complete', 6))).toBe('6/6 fares')
  expect(titleOf(group('fares', 'complete', 6, ['held']))).toBe('❚❚ 6/6 fares')
})
