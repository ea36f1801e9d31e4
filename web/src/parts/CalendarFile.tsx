import { Button, Input, InputNumber, Modal } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useAddCalendar } from '../api/rules'
import { Review } from './RuleForm'
import { Trouble } from './Trouble'

/** An iCalendar file to be brought in: looked at first, then made. */
export function CalendarFile({ group: g, onClose }: { group: Group; onClose: () => void }) {
  const [file, setFile] = useState('')
  const [min, setMin] = useState<number | null>(null)
  const look = useAddCalendar(g, true)
  const make = useAddCalendar(g, false)
  const body = { file, ...(min === null ? {} : { min }) }
  const reviews = look.data?.items
  return (
    <Modal open width={760} title={`Bring in a calendar for ${g.name}`} footer={null} onCancel={onClose}>
      <p>
        Each event of an iCalendar file becomes a calendar. What it sets it says by X-UNITAS-MIN, X-UNITAS-MAX
        and X-UNITAS-SIZE; what it does not say is as below. Calendars of the same names are replaced.
      </p>
      <div className="row">
        <input
          type="file"
          aria-label="File"
          accept=".ics,text/calendar"
          onChange={(e) => void e.target.files?.[0]?.text().then(setFile)}
        />
        <InputNumber aria-label="Min" min={0} prefix="min" value={min} onChange={setMin} />
      </div>
      <Input.TextArea
        aria-label="Text of the file"
        rows={5}
        value={file}
        onChange={(e) => {
          setFile(e.target.value)
          look.reset()
        }}
        style={{ margin: '8px 0' }}
      />
      <Trouble error={look.error ?? make.error} />
      {reviews?.map((r) => (
        <Review key={r.rule.name} review={r} />
      ))}
      <div className="row">
        <Button
          type={reviews ? 'default' : 'primary'}
          disabled={file === ''}
          loading={look.isPending}
          onClick={() => look.mutate(body)}
        >
          Look at it
        </Button>
        {reviews && (
          <Button
            type="primary"
            loading={make.isPending}
            onClick={() => make.mutate(body, { onSuccess: onClose })}
          >
            {reviews.length === 1 ? 'Make it' : `Make all ${reviews.length}`}
          </Button>
        )}
      </div>
    </Modal>
  )
}
