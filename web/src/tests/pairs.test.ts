import { expect, it } from 'vitest'
import { pairsFault, pairsFrom, pairsTo } from '../parts/PairRows'

it('takes rows as they stand, and none that are empty', () => {
  expect(pairsTo(undefined)).toEqual({})
  expect(
    pairsTo([
      [' env ', 'trial'],
      ['', ''],
      ['empty', ''],
    ]),
  ).toEqual({ env: 'trial', empty: '' })
  expect(pairsFrom({ a: '1', b: 'x=y' })).toEqual([
    ['a', '1'],
    ['b', 'x=y'],
  ])
})

it('refuses what would be mended silently', () => {
  expect(
    pairsFault([
      ['a', '1'],
      ['b', '2'],
    ]),
  ).toBe('')
  expect(pairsFault([['', 'lost']])).toContain('A value has no name')
  expect(
    pairsFault([
      ['bar', '1'],
      [' bar', '2'],
    ]),
  ).toBe('bar stands there twice; keep one of them.')
})
