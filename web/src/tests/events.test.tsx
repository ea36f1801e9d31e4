import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { act, renderHook, waitFor } from '@testing-library/react'
import type { ReactNode } from 'react'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { useEvents } from '../api/events'

/** A stream of events that the test writes, one for each time it is asked for. */
class Stream {
  readonly headers: Record<string, string>
  private writer: ReadableStreamDefaultController<Uint8Array> | undefined
  readonly response: Response
  constructor(headers: Record<string, string>) {
    this.headers = headers
    this.response = new Response(
      new ReadableStream<Uint8Array>({
        start: (c) => {
          this.writer = c
        },
      }),
    )
  }
  write(text: string) {
    this.writer?.enqueue(new TextEncoder().encode(text))
  }
  end() {
    this.writer?.close()
  }
}

let streams: Stream[]
let refuse: boolean

beforeEach(() => {
  streams = []
  refuse = false
  vi.useFakeTimers({ shouldAdvanceTime: true })
  vi.stubGlobal('fetch', (_: string, init: { headers: Record<string, string> }) => {
    if (refuse) return Promise.resolve(new Response(null, { status: 503 }))
    const s = new Stream(init.headers)
    streams.push(s)
    return Promise.resolve(s.response)
  })
})

afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

function follow(signedIn = true) {
  const client = new QueryClient()
  const read = vi.spyOn(client, 'invalidateQueries').mockResolvedValue()
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  )
  const hear = vi.fn()
  return { read, hear, ...renderHook(() => useEvents(signedIn, hear), { wrapper }) }
}

async function stream(n: number): Promise<Stream> {
  await waitFor(() => {
    expect(streams.length).toBeGreaterThan(n)
  })
  const s = streams[n]
  if (!s) throw new Error('no stream')
  return s
}

it('asks nobody before one is signed in', async () => {
  const { result } = follow(false)
  await act(() => vi.advanceTimersByTimeAsync(3000))
  expect(streams).toHaveLength(0)
  expect(result.current.state).toBe('connecting')
})

it('has all read anew once for many events that come together, however they are cut', async () => {
  const { result, read } = follow()
  const s = await stream(0)
  await waitFor(() => {
    expect(result.current.state).toBe('live')
  })
  await act(() => vi.advanceTimersByTimeAsync(500))
  read.mockClear()
  await act(async () => {
    s.write('id: 7\nevent: jour')
    s.write('nal\ndata: {}\n\nid: 8\nevent: journal\ndata: {}\n\n: still here\n\n')
    await vi.advanceTimersByTimeAsync(500)
  })
  expect(read).toHaveBeenCalledTimes(1)
})

it('lets hear of entries of the journal, each once, and of nothing else', async () => {
  const { hear } = follow()
  const s = await stream(0)
  await act(async () => {
    s.write(
      'id: 7\ndata: {"kind": "rollout.held", "text": "It is held."}\n\n: still here\n\nid: 8\ndata: {}\n\n',
    )
    await vi.advanceTimersByTimeAsync(500)
  })
  expect(hear).toHaveBeenCalledTimes(1)
  expect(hear).toHaveBeenCalledWith({ kind: 'rollout.held', text: 'It is held.' })
})

it('takes up where it was after the stream broke, and says that it did', async () => {
  const { result, unmount } = follow()
  const first = await stream(0)
  expect(first.headers['Last-Event-ID']).toBeUndefined()
  await act(async () => {
    first.write('id: 41\ndata: {}\n\nid: 42\ndata: {}\n\nid: 43\ndata: half')
    await vi.advanceTimersByTimeAsync(10)
    refuse = true
    first.end()
    await vi.advanceTimersByTimeAsync(100)
  })
  expect(result.current.state).toBe('lost')
  refuse = false
  await act(() => vi.advanceTimersByTimeAsync(2100))
  const second = await stream(1)
  expect(second.headers['Last-Event-ID']).toBe('42')
  expect(result.current.state).toBe('live')
  unmount()
})

it('does not try a refused sign-in again, and tells the console', async () => {
  vi.stubGlobal('fetch', (_: string, init: { headers: Record<string, string> }) => {
    streams.push(new Stream(init.headers))
    return Promise.resolve(new Response(null, { status: 401 }))
  })
  const told = vi.fn()
  window.addEventListener('signed-out', told)
  follow()
  await act(() => vi.advanceTimersByTimeAsync(5000))
  window.removeEventListener('signed-out', told)
  expect(streams).toHaveLength(1)
  expect(told).toHaveBeenCalledTimes(1)
})
