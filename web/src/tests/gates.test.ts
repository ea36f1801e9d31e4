import { describe, expect, it } from 'vitest'
import type { Course } from '../api/rollouts'
import { fieldsOf, settingsOf } from '../parts/CourseFields'
import { gateOf } from '../parts/GateFields'

const gates = [
  {
    kind: 'errors',
    margin_percent: 2,
    warm_seconds: 3,
    on_broken: 'hold',
    min_requests: 200,
    on_undecided: 'extend',
  },
  {
    kind: 'serving',
    floor: 4,
    warm_seconds: 0,
    on_broken: 'revert',
    min_requests: 0,
    on_undecided: 'go-on',
  },
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
    expect(
      gateOf({ kind: 'healthy', on_broken: 'hold', margin_percent: 5, floor: 90, min_requests: 7 }),
    ).toEqual({
      kind: 'healthy',
      on_broken: 'hold',
      floor: 90,
      warm_seconds: 0,
      min_requests: 0,
      on_undecided: 'go-on',
    })
  })

  it('leaves emptied numbers to the service', () => {
    const g = gateOf({
      kind: 'latency',
      on_broken: 'hold',
      margin_percent: null,
      min_requests: null,
      floor: 3,
    })
    expect(JSON.parse(JSON.stringify(g))).toEqual({
      kind: 'latency',
      on_broken: 'hold',
      warm_seconds: 0,
      min_requests: 0,
      on_undecided: 'go-on',
    })
  })
})
