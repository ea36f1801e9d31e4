import { describe, expect, it } from 'vitest'
import { count, exact, here, list, size, span, versionNumber } from '../parts/words'

// As the service's own sentences say it (internal/fleet/words).
describe('words', () => {
  it.each([
    [-1, '0 s'],
    [0.25, '250 ms'],
    [2.5, '2.5 s'],
    [59.9, '59 s'],
    [60, '1 m'],
    [61, '1 m 1 s'],
    [3600, '1 h'],
    [5400, '1 h 30 m'],
    [47 * 3600, '47 h'],
    [48 * 3600, '2 d'],
    [49 * 3600, '2 d 1 h'],
  ])('%s seconds are %s', (seconds, text) => expect(span(seconds)).toBe(text))
  it.each([
    [0, '0 B'],
    [1023, '1023 B'],
    [1024, '1 KiB'],
    [1536, '1.5 KiB'],
    [3 << 20, '3 MiB'],
    [5 * 2 ** 40, '5 TiB'],
    [5 * 2 ** 50, '5120 TiB'],
  ])('%s bytes are %s', (bytes, text) => expect(size(bytes)).toBe(text))
  it('counts and joins', () => {
    expect([count(0, 'group'), count(1, 'group'), count(2, 'group')]).toEqual([
      '0 groups',
      '1 group',
      '2 groups',
    ])
    expect([list([]), list(['a']), list(['a', 'b']), list(['a', 'b', 'c'])]).toEqual([
      '',
      'a',
      'a and b',
      'a, b and c',
    ])
    expect([versionNumber('timetable-web@12'), versionNumber('')]).toEqual([12, 0])
  })
})

it('keeps the tone of a version while it lives, whatever comes beside it', async () => {
  const { toneOf } = await import('../parts/Slip')
  const alone = toneOf(['web@2'], 'web@2', 'light')
  expect(toneOf(['web@2', 'web@3'], 'web@2', 'light')).toBe(alone)
  expect(toneOf(['web@1', 'web@2', 'web@3', 'web@4'], 'web@2', 'light')).toBe(alone)
  const four = ['web@2', 'web@3', 'web@4', 'web@5'].map((v) => toneOf([], v, 'light').fill)
  expect(new Set(four).size).toBe(4)
  const all = ['web@1', 'web@2', 'web@3', 'web@4', 'web@5']
  expect(four).not.toContain(toneOf(all, 'web@1', 'light').fill)
})

it('tells the moments of a sentence as all others are told', () => {
  const at = '2026-11-27T10:01:46Z'
  expect(here(`It went back at ${at}; look why.`)).toBe(`It went back at ${exact(at)}; look why.`)
  expect(here('timetable-web@2 of 2026-11-27')).toBe('timetable-web@2 of 2026-11-27')
})
