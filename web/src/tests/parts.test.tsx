import { act, cleanup, render, renderHook, screen } from '@testing-library/react'
import { afterEach, expect, it, vi } from 'vitest'
import { Refused, take } from '../api/client'
import { Ago } from '../parts/Ago'
import { Gates } from '../parts/Gates'
import { StateWord } from '../parts/StateWord'
import { longTable } from '../parts/longTable'
import { useNow } from '../parts/now'

afterEach(cleanup)

it('tells states by a sign besides the colour', () => {
  for (const [state, sign] of [
    ['broken', '▲'],
    ['withdrawn', '⊘'],
    ['baking', '…'],
    ['ready', ''],
  ] as const) {
    const { container } = render(<StateWord state={state} />)
    expect(container.textContent).toBe(`${sign} ${state}`)
    cleanup()
  }
})

it('tells a time as how long ago, never one that is to come', () => {
  vi.useFakeTimers({ now: Date.parse('2026-05-01T12:00:00Z') })
  render(<Ago at="2026-05-01T11:58:30Z" />)
  expect(screen.getByText('1 m ago').getAttribute('tabindex')).toBe('0')
  cleanup()
  render(<Ago at="2026-05-01T12:00:05Z" />)
  expect(screen.getByText('0 ms ago')).toBeTruthy()
  cleanup()
  vi.useRealTimers()
})

it('shows what new instances answer against old ones', () => {
  const gate = {
    kind: 'errors',
    what: 'requests that fail',
    margin_percent: 0.5,
    warm_seconds: 0,
    on_broken: 'revert',
    min_requests: 0,
    on_undecided: 'go-on',
    state: 'broken' as const,
    new_requests: 310,
    new_failed: 16,
    old_requests: 1500,
    old_failed: 1,
    wave_requests: 310,
    evidence: 340,
  }
  vi.stubGlobal('matchMedia', () => ({ matches: false, addListener() {}, removeListener() {} }))
  const { container } = render(<Gates gates={[gate]} />)
  for (const text of [
    'requests that fail',
    'broken',
    '5.2 % of 310',
    '0.067 % of 1500',
    '+0.5 points',
    '1 in 340',
    'revert',
  ])
    expect(container.textContent).toContain(text)
  cleanup()
  const few = {
    ...gate,
    state: 'undecided' as const,
    what: 'answers over 48 ms',
    min_requests: 200,
    wave_requests: 12,
    new_requests: 0,
  }
  const undecided = render(<Gates gates={[{ ...few, evidence: 1 }]} />)
  for (const text of ['answers over 48 ms', 'undecided', 'none yet', '12 of 200 requests, then go-on', '–'])
    expect(undecided.container.textContent).toContain(text)
  cleanup()
  expect(render(<Gates gates={[]} />).container.textContent).toContain('No gate')
})

it('draws only the rows in sight of a long table', () => {
  expect(longTable(100)).toEqual({ pagination: false })
  expect(longTable(101)).toMatchObject({ virtual: true })
})

it('counts up, and stops when nobody looks', () => {
  vi.useFakeTimers()
  const { result, unmount } = renderHook(() => useNow())
  const begun = result.current
  act(() => {
    vi.advanceTimersByTime(500)
  })
  expect(result.current).toBe(begun + 500)
  unmount()
  expect(vi.getTimerCount()).toBe(0)
  vi.useRealTimers()
})

it('throws what the service refused with the fields that it names', async () => {
  const problem = {
    type: 'x',
    title: 'Refused',
    status: 422,
    detail: 'no',
    errors: [{ pointer: '/size', detail: 'is too large' }],
  }
  const answer = { error: problem, response: new Response(null, { status: 422 }) }
  const refused = await take(Promise.resolve(answer)).catch((e: unknown) => e)
  expect(refused).toBeInstanceOf(Refused)
  expect((refused as Refused).about('size')).toBe('is too large')
  expect((refused as Refused).about('siz')).toBeUndefined()
  const unreached = await take(Promise.reject(new TypeError('failed'))).catch((e: unknown) => e)
  expect((unreached as Refused).message).toContain('not reached')
  await expect(
    take(Promise.resolve({ response: new Response(null, { status: 204 }) })),
  ).resolves.toBeUndefined()
})
