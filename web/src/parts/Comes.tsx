import { Form } from 'antd'
import { useEffect, useState } from 'react'

/** What the service says of a change that is only tried. */
export interface Tried {
  changes?: string[]
  advice?: string[]
}

// How long typing rests before the service is asked, in ms.
const rest = 300

/**
 * Says what the form around it would change, and what is wise to know of that, once typing
 * rests. What cannot be yet says nothing here; the form says it when it is sent.
 */
// eslint-disable-next-line @typescript-eslint/no-unnecessary-type-parameters
export function Comes<F extends object>({ ask }: { ask: (f: F) => Promise<Tried> }) {
  const form = Form.useFormInstance<F>()
  const values = Form.useWatch([], form) as F | undefined
  const [tried, setTried] = useState<Tried | null>(null)
  useEffect(() => {
    if (!values || !form.isFieldsTouched()) return
    let over = false
    const look = async () => {
      const told = await ask(form.getFieldsValue()).catch(() => null)
      if (!over) setTried(told)
    }
    const timer = setTimeout(() => void look(), rest)
    return () => {
      over = true
      clearTimeout(timer)
    }
    // What is asked is of the values; it is another function at each drawing.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [form, values])
  return (
    <div aria-live="polite" className="whole">
      {tried && (tried.changes ?? []).length === 0 && (
        <p className="quiet">Nothing is another than it was.</p>
      )}
      {tried && (tried.changes ?? []).length > 0 && (
        <>
          It changes:
          <ul className="plain">
            {(tried.changes ?? []).map((c) => (
              <li key={c}>{c}</li>
            ))}
          </ul>
        </>
      )}
      {tried?.advice?.map((a) => (
        <p key={a} className="waiting">
          ▲ {a}
        </p>
      ))}
    </div>
  )
}
