import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { Form, Input } from 'antd'
import { afterEach, expect, it, vi } from 'vitest'
import { Draft, dropDraft, hasDraft } from '../parts/Draft'

// What the component library asks of a browser.
vi.stubGlobal('matchMedia', () => ({ matches: false, addListener: vi.fn(), removeListener: vi.fn() }))

afterEach(cleanup)

function Example({ of = 'an example' }) {
  return (
    <Form initialValues={{ name: 'usual' }}>
      <Form.Item name="name">
        <Input aria-label="name" />
      </Form.Item>
      <Draft of={of} />
    </Form>
  )
}

const field = () => screen.getByLabelText<HTMLInputElement>('name')
async function type(text: string) {
  fireEvent.change(field(), { target: { value: text } })
  await waitFor(() => {
    expect(hasDraft('an example')).toBe(true)
  })
}

it('has what was typed again when the form is opened again, until it is sent', async () => {
  render(<Example />)
  expect(screen.queryByText(/is back/)).toBeNull()
  await type('timetable')
  cleanup()
  render(<Example of="another" />)
  expect(field().value).toBe('usual')
  cleanup()
  render(<Example />)
  await waitFor(() => {
    expect(field().value).toBe('timetable')
  })
  expect(screen.getByText(/What was typed here before is back/)).toBeTruthy()
  cleanup()
  dropDraft('an example')
  render(<Example />)
  expect(field().value).toBe('usual')
})

it('begins anew when that is wanted, and keeps nothing that nobody typed', async () => {
  render(<Example />)
  cleanup()
  render(<Example />)
  expect(screen.queryByText(/is back/)).toBeNull()
  await type('fares')
  cleanup()
  render(<Example />)
  fireEvent.click(screen.getByText('Begin anew'))
  expect(field().value).toBe('usual')
  cleanup()
  render(<Example />)
  expect(field().value).toBe('usual')
})
