import { expect, it } from 'vitest'
import type { JournalEntry } from '../api/client'
import { matters, sayAll } from '../parts/Announced'

const entry = (kind: string, more: Partial<JournalEntry> = {}) =>
  ({ kind, text: `It is ${kind}.`, because: '', numbers: {}, ...more }) as unknown as JournalEntry

it('tells turns and what came out badly, and not each step', () => {
  expect(matters(entry('rollout.held', { outcome: 'bad' }))).toBe(true)
  expect(matters(entry('rollout.done', { outcome: 'good' }))).toBe(true)
  expect(matters(entry('group.frozen'))).toBe(true)
  for (const step of [
    'instance.ordered',
    'instance.booting',
    'instance.serving',
    'verdict.healthy',
    'check.changed',
  ])
    expect(matters(entry(step, { outcome: 'good' })), step).toBe(false)
})

it('says a storm in one sentence', () => {
  expect(sayAll(entry('rollout.held', { because: 'the gate on errors broke' }), 0)).toBe(
    'It is rollout.held. Because the gate on errors broke.',
  )
  expect(sayAll(entry('verdict.unhealthy'), 40)).toBe('It is verdict.unhealthy. And 40 more.')
})
