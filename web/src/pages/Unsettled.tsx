import { Button } from 'antd'
import { useState } from 'react'
import { useResume, useService, useStopStrays } from '../api/keeping'
import { later } from '../parts/later'
import { Trouble } from '../parts/Trouble'
import { count, span } from '../parts/words'

const AskFirst = later(async () => (await import('../parts/AskFirst')).AskFirst)

/** What a person has to decide about the service itself: restored records, and machines without one. */
export function Unsettled() {
  const service = useService()
  const resume = useResume()
  const stop = useStopStrays()
  const [asked, setAsked] = useState<'resume' | 'strays' | null>(null)
  const restored = service.data?.restored
  const strays = service.data?.strays ?? []
  if (!restored && strays.length === 0) return null
  return (
    <>
      <h2>To be decided</h2>
      <Trouble error={resume.error ?? stop.error} />
      {restored && (
        <p>
          The records were restored from a backup, and nothing is done to machines until somebody says so.{' '}
          <Button danger loading={resume.isPending} onClick={() => setAsked('resume')}>
            Resume…
          </Button>
        </p>
      )}
      {strays.length > 0 && (
        <p>
          No record knows {count(strays.length, 'machine')}:{' '}
          {strays
            .slice(0, 10)
            .map((m) => `${m.machine}, stopped in ${span(m.stops_in_seconds)}`)
            .join('; ')}
          {strays.length > 10 && ` and ${String(strays.length - 10)} more`}.{' '}
          <Button danger loading={stop.isPending} onClick={() => setAsked('strays')}>
            Stop now…
          </Button>
        </p>
      )}
      {asked === 'resume' && restored && (
        <AskFirst
          title="Resume the service?"
          verb="Resume"
          names={[]}
          does={`Machines are launched, healed and stopped by the records of ${new Date(restored.taken_at).toLocaleString()}, and listeners open. Of ${count(restored.instances, 'instance')} that should have machines ${restored.present} ${restored.present === 1 ? 'has its own and goes on' : 'have theirs and go on'}.`}
          mind={[
            ...(restored.other + restored.absent > 0
              ? [
                  `Replaced: ${restored.other} with a machine of another version, ${restored.absent} with none.`,
                ]
              : []),
            ...(restored.unknown > 0
              ? [`No record knows ${count(restored.unknown, 'machine')}; told, and stopped after a while.`]
              : []),
          ]}
          onDo={(reason) => {
            resume.mutate(reason)
            setAsked(null)
          }}
          onClose={() => setAsked(null)}
        />
      )}
      {asked === 'strays' && (
        <AskFirst
          title={`Stop ${count(strays.length, 'machine')}?`}
          verb={strays.length === 1 ? 'Stop it' : 'Stop them'}
          names={strays.map((m) => m.machine)}
          does={
            strays.length === 1 ? 'It is stopped, and its files go.' : 'They are stopped, and their files go.'
          }
          mind={[]}
          onDo={(reason) => {
            stop.mutate({ machines: strays.slice(0, 100).map((m) => m.machine), reason })
            setAsked(null)
          }}
          onClose={() => setAsked(null)}
        />
      )}
    </>
  )
}
