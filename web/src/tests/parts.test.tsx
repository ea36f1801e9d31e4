import { act, cleanup, render, renderHook, screen } from '@testing-library/react'
import { afterEach, expect, it, vi } from 'vitest'
import { Refused, take } from '../api/client'
import { Ago } from '../parts/Ago'
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
  const now = Date.parse('2026-05-01T12:00:00Z')
  render(<Ago at="2026-05-01T11:58:30Z" now={now} />)
  expect(screen.getByText('1 m 30 s ago').getAttribute('tabindex')).toBe('0')
  cleanup()
  render(<Ago at="2026-05-01T12:00:05Z" now={now} />)
  expect(screen.getByText('0 ms ago')).toBeTruthy()
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
