import { describe, expect, it } from 'vitest'
import { align, nearest, type Series } from '../charts/data'
import { fieldsOf, settingsOf, usualFields } from '../parts/ruleSettings'
import { linesOf, metricsOf } from '../parts/sizingSeries'
import { measuredAs } from '../parts/words'

const say = String
const series = (style: Series['style'], points: [number, number | null][], gap?: number): Series => ({
  name: style,
  unit: '',
  tone: 0,
  style,
  say,
  points: points.map(([at, value]) => ({ at: at * 1000, value })),
  ...(gap === undefined ? {} : { gap }),
})

describe('series on one axis of time', () => {
  it('keeps a step until the next, draws lines between points, and leaves gaps', () => {
    const a = align([
      series('steps', [
        [0, 2],
        [20, 4],
      ]),
      series(
        'line',
        [
          [0, 10],
          [10, 20],
          [40, 50],
        ],
        15_000,
      ),
    ])
    expect(a.columns[0]).toEqual([0, 10, 20, 40])
    expect(a.raw[0]).toEqual([2, 2, 4, 4])
    expect(a.raw[1]).toEqual([10, 20, null, 50])
  })
  it('lays bars on each other and says what each is by itself', () => {
    const a = align([series('line', [[0, 1]]), series('line', [[0, 2]])], true)
    expect(a.columns.slice(1)).toEqual([[3], [2]])
    expect(a.raw).toEqual([[1], [2]])
  })
  it('finds what happened nearest to a time, and nothing far from it', () => {
    const marks = [
      { at: 100_000, up: true, text: 'a' },
      { at: 130_000, up: false, text: 'b' },
    ]
    expect(nearest(marks, 118, [90, 105, 120, 135])?.text).toBe('b')
    expect(nearest(marks, 300, [90, 105, 120, 135])).toBeUndefined()
  })
})

describe('the form of a rule', () => {
  const f = { ...usualFields, name: 'even' }
  it('gives each kind its own settings, and leaves out what is empty', () => {
    expect(settingsOf('steady', { ...f, calm: null, cooldown: 2 })).toEqual({
      off: false,
      metric: 'cpu',
      aggregate: 'average',
      cooldown_seconds: 120,
      keep_at: 60,
      band_percent: 10,
      shrink_rate_percent: 20,
      grow_only: false,
      forecast: false,
    })
    expect(settingsOf('calendar', { ...f, min: 4, time_zone: 'Europe/Paris' })).toEqual({
      off: false,
      when: '30 5 * * 1-5',
      time_zone: 'Europe/Paris',
      duration_seconds: 14_400,
      min: 4,
      max: -1,
      size: -1,
    })
    expect(settingsOf('trip', f).thresholds).toEqual([
      { way: 'above', at: 75, for_seconds: 120, step: '+1' },
      { way: 'below', at: 30, for_seconds: 600, step: '-1' },
    ])
  })
  it('reads a rule back as it was written', () => {
    for (const kind of ['steady', 'trip', 'calendar'] as const) {
      const settings = settingsOf(kind, { ...f, size: 3 })
      const { min, max, ...rest } = settings
      const told = kind === 'calendar' ? rest : settings
      const back = settingsOf(kind, fieldsOf({ name: 'even', kind, off: false, says: '', settings: told }))
      expect(back).toEqual(kind === 'calendar' ? { ...rest, min, max } : settings)
    }
  })
})

describe('what a chart of a group shows', () => {
  const rule = (name: string, settings: object) => ({
    name,
    kind: 'steady' as const,
    off: false,
    says: '',
    settings,
  })
  it('has each metric once, and the lines of its rules', () => {
    const rules = [
      rule('even', { metric: 'cpu', aggregate: 'average', keep_at: 60 }),
      rule('busy', {
        metric: 'cpu',
        aggregate: 'average',
        thresholds: [{ way: 'above', at: 90, for_seconds: 60, step: '+1' }],
      }),
      rule('queue', { metric: 'push:waiting', aggregate: 'total', keep_at: 100 }),
    ]
    expect(metricsOf(rules)).toEqual([
      { metric: 'cpu', aggregate: 'average' },
      { metric: 'push:waiting', aggregate: 'total' },
    ])
    expect(linesOf(rules).map((l) => l.name)).toEqual(['even: keep at 60', 'busy: above 90, +1'])
  })
  it('says values with their units', () => {
    expect(measuredAs(71.234, ' %')).toBe('71.2 %')
    expect(measuredAs(1234, ' ms')).toBe('1234 ms')
    expect(measuredAs(2048, ' B/s')).toBe('2 KiB/s')
  })
})
