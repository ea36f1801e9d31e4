import { Button, Input, Modal } from 'antd'
import { lazy, Suspense, useState } from 'react'
import { useNavigate } from 'react-router'
import { useOpenShell, type ShellEnd } from '../api/instance'
import { useLeaving } from './useLeaving'
import { Trouble } from './Trouble'
import { span } from './words'

// A terminal is large, and seldom wanted.
const Screen = lazy(async () => ({ default: (await import('./Screen')).Screen }))

/** A shell on the machine of an instance, as its workload's user. */
export function ShellOn({ id }: { id: string }) {
  const open = useOpenShell(id)
  const [reason, setReason] = useState('')
  const [how, setHow] = useState<{ end?: ShellEnd }>()
  const stream = open.data?.stream
  const running = stream !== undefined && how === undefined
  const leaving = useLeaving(running)
  const navigate = useNavigate()
  return (
    <>
      {!running && (
        <form
          className="row"
          onSubmit={(e) => {
            e.preventDefault()
            open.mutate(reason, {
              onSuccess: () => {
                setHow(undefined)
              },
            })
          }}
        >
          <Input
            style={{ width: 420 }}
            aria-label="Why a shell is opened"
            placeholder="Why; it is kept in the journal"
            maxLength={500}
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Button htmlType="submit" loading={open.isPending}>
            {how ? 'Open another shell' : 'Open a shell'}
          </Button>
          <span className="quiet">
            As its workload's user. Who opened it is in the journal, what is typed is not.
          </span>
        </form>
      )}
      <Trouble error={open.error} />
      {how && (
        <p className={how.end?.status === 0 ? 'quiet' : 'trouble'} role="status">
          {ending(how.end)}
        </p>
      )}
      {running && (
        <>
          <p className="quiet">
            exit or Ctrl+D ends it, and so do {span(open.data?.idle_seconds ?? 0)} without a key, and leaving
            this page. Shift+Tab leaves the terminal.
          </p>
          {leaving.to !== undefined && (
            <Modal
              open
              title={`Leave the shell on ${id}?`}
              okText="End it and leave"
              okButtonProps={{ danger: true }}
              cancelText="Stay"
              onOk={() => void navigate(leaving.to ?? '/')}
              onCancel={leaving.stay}
            >
              <p>It ends with this page, and so does what runs before it.</p>
            </Modal>
          )}
          <Suspense fallback={<p className="quiet">The terminal comes …</p>}>
            <Screen key={stream} stream={stream} onOver={(end) => setHow({ ...(end ? { end } : {}) })} />
          </Suspense>
        </>
      )}
    </>
  )
}

function ending(end?: ShellEnd): string {
  if (!end) return '▲ The connection was cut before the shell was over; what it began may go on.'
  if (end.status === 0) return 'The shell ended well.'
  return `▲ The shell is over: ${end.why ?? `it ended with status ${String(end.status)}`}.`
}
