import { describe, expect, it } from 'vitest'
import { hoursFrom, hoursTo } from '../parts/HoursField'
import { fieldsOfRoute, headersOf, routeOf } from '../parts/listenerSettings'
import { waveFrom, waveTo } from '../parts/WaveRows'

describe('waves in rows', () => {
  it('are read and written as the contract has them', () => {
    for (const [text, row, again] of [
      ['1', { far: 1, of: 'instances', soak: null }, '1'],
      ['25%', { far: 25, of: '%', soak: null }, '25%'],
      ['1:2m30s', { far: 1, of: 'instances', soak: 150 }, '1:150s'],
      ['12.5%:1h0m0.5s', { far: 12.5, of: '%', soak: 3600.5 }, '12.5%:3600.5s'],
      ['100%:0s', { far: 100, of: '%', soak: 0 }, '100%:0s'],
    ] as const) {
      expect(waveFrom(text)).toEqual(row)
      expect(waveTo(waveFrom(text))).toBe(again)
    }
  })

  it('leave an empty number to the service, which says what is wrong', () => {
    expect(waveTo({ far: null, of: '%', soak: null })).toBe('%')
  })
})

describe('hours of the day', () => {
  it('are read and written as the contract has them', () => {
    for (const text of ['', '22:00-05:00', '22:00-05:00 Europe/Paris']) {
      const { from, to, place } = hoursFrom(text)
      expect(hoursTo(from, to, place)).toBe(text)
    }
  })
})

describe('headers in rows', () => {
  it('need no value, and keep a colon in one', () => {
    expect(
      headersOf([
        ['X-Trial', ''],
        [' X-Berth ', ' a:b '],
        ['', ''],
      ]),
    ).toEqual([{ name: 'X-Trial' }, { name: 'X-Berth', value: 'a:b' }])
  })

  it('are in a route as they were', () => {
    const route = {
      pool: 'fares',
      path: '/fares',
      headers: [{ name: 'X-Trial' }, { name: 'X-Berth', value: '7' }],
      split: { pool: 'fares-next', percent: 5, header: { name: 'X-Next', value: 'yes' } },
    }
    expect(routeOf(fieldsOfRoute(route))).toEqual(route)
  })
})
