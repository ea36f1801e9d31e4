import { act, cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { api, take, token } from '../api/client'
import { SignIn } from '../pages/SignIn'

// The client takes fetch as it is when it is made, so it is another before that.
const service = vi.hoisted(() => {
  const s = { known: 'right' }
  globalThis.fetch = ((request: Request) =>
    Promise.resolve(
      request.headers.get('Authorization') === `Bearer ${s.known}`
        ? Response.json({ version: '1' })
        : Response.json(
            { type: 'x', title: 'wrong', status: 401, detail: 'The service does not know this token.' },
            { status: 401 },
          ),
    )) as typeof fetch
  return s
})

beforeEach(() => {
  service.known = 'right'
  token.clear()
})

afterEach(() => {
  cleanup()
  token.clear()
})

async function type(secret: string) {
  fireEvent.change(screen.getByLabelText('Token'), { target: { value: secret } })
  await act(async () => {
    fireEvent.click(screen.getByRole('button', { name: 'Sign in' }))
    await Promise.resolve()
  })
}

it('keeps a token only once the service knows it', async () => {
  token.set('of another tab')
  const done = vi.fn()
  render(<SignIn onDone={done} />)
  await type('wrong')
  await waitFor(() => expect(screen.getByRole('alert').textContent).toContain('does not know this token'))
  expect(token.get()).toBe('of another tab')
  expect(done).not.toHaveBeenCalled()
  await type(' right ')
  await waitFor(() => expect(done).toHaveBeenCalledTimes(1))
  expect(token.get()).toBe('right')
})

it('tells of a session that ended, and signs no other tab out by it', async () => {
  const told = vi.fn()
  window.addEventListener('signed-out', told)
  token.set('right')
  await take(api.GET('/v1/service'))
  expect(told).not.toHaveBeenCalled()
  service.known = 'another'
  await expect(take(api.GET('/v1/service'))).rejects.toThrow('does not know')
  window.removeEventListener('signed-out', told)
  expect(told).toHaveBeenCalledTimes(1)
  expect(token.get()).toBe('right')
})
