import { describe, expect, it } from 'vitest'
import type { Course } from '../api/rollouts'
import { fieldsOf, settingsOf } from '../parts/CourseFields'
import { gateOf } from '../parts/GateFields'

const gates = [
  { kind: 'errors', margin_percent: 2, warm_seconds: 3, broken: 'hold', least: 200, undecided: 'extend' },
  { kind: 'serving', floor: 4, warm_seconds: 0, broken: 'revert', least: 0, undecided: 'go-on' },
] satisfies Course['settings']['gates']

describe('the gates of a form', () => {
  it('loses nothing of a course that is opened and saved', () => {
    const course = {
      settings: {
        waves: ['1', '100%'],
        above: 1,
        below: 0,
        soak_seconds: 5,
        gates,
        order: 'mixed',
        pace: 'in-waves',
        hours: '',
      },
    } as unknown as Course
    expect(settingsOf(fieldsOf(course)).gates).toEqual(gates)
  })

  it('sends what counts for the kind alone', () => {
    expect(gateOf({ kind: 'healthy', broken: 'hold', margin_percent: 5, floor: 90, least: 7 })).toEqual({
      kind: 'healthy',
      broken: 'hold',
      floor: 90,
      warm_seconds: 0,
      least: 0,
      undecided: 'go-on',
    })
  })

  it('leaves emptied numbers to the service', () => {
    const g = gateOf({ kind: 'latency', broken: 'hold', margin_percent: null, least: null, floor: 3 })
    expect(JSON.parse(JSON.stringify(g))).toEqual({
      kind: 'latency',
      broken: 'hold',
      warm_seconds: 0,
      least: 0,
      undecided: 'go-on',
    })
  })
})
