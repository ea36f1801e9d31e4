import { Button, Form } from 'antd'
import { useEffect, useState } from 'react'

// What was typed and neither sent nor thrown away, of the forms of this tab.
const drafts = new Map<string, object>()
const most = 50

// Those that were sent while their form was still there.
const sent = new Set<string>()

/** Keeps what was typed, the oldest of too many no longer. */
export function keepDraft(of: string, typed: object) {
  const first = drafts.keys().next().value
  if (drafts.size >= most && first !== undefined) drafts.delete(first)
  drafts.set(of, typed)
}

/** What was typed before, undefined for nothing. */
export const draftOf = (of: string) => drafts.get(of)

/** Whether something was typed into a form that was neither sent nor thrown away. */
export const hasDraft = (of: string) => drafts.has(of)

/** Forgets what was typed into a form, once it is sent. */
export const dropDraft = (of: string) => {
  drafts.delete(of)
  if (sent.size >= most) sent.clear()
  sent.add(of)
}

/** What follows once a form is sent: its draft is forgotten, and then the rest. */
export const sentThen =
  <A extends unknown[]>(of: string, then: (...a: A) => void) =>
  (...a: A) => {
    dropDraft(of)
    then(...a)
  }

/**
 * Keeps what is typed into the form around it, so that Escape, Cancel and going back lose
 * nothing: when the form is opened again it is there, and it says so. The name of a form that
 * changes something holds the revision, for what was typed against another is not right any more.
 */
export function Draft({ of }: { of: string }) {
  const form = Form.useFormInstance()
  const values = Form.useWatch([], form) as object | undefined
  const [back, setBack] = useState(() => hasDraft(of))
  useEffect(() => {
    sent.delete(of)
    const kept = drafts.get(of)
    if (kept) form.setFieldsValue(kept)
  }, [form, of])
  useEffect(() => {
    if (!values || sent.has(of) || !form.isFieldsTouched()) return
    keepDraft(of, form.getFieldsValue(true) as object)
  }, [form, of, values])
  if (!back) return null
  return (
    <p className="waiting" role="status">
      ● What was typed here before is back.{' '}
      <Button
        size="small"
        type="link"
        onClick={() => {
          drafts.delete(of)
          form.resetFields()
          setBack(false)
        }}
      >
        Begin anew
      </Button>
    </p>
  )
}
