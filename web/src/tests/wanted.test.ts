import { expect, it } from 'vitest'
import { difference } from '../parts/Wanted'

it('tells how far what is there is from what is wanted', () => {
  expect(difference(3, 3)).toBe('')
  expect(difference(1, 3)).toBe('2 missing')
  expect(difference(4, 3)).toBe('1 too many')
})
