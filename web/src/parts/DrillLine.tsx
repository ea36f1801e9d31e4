import { Button } from 'antd'
import { useDrills, useStopDrill } from '../api/keeping'
import { Shown } from './Shown'
import { secondsBetween, span } from './words'

/** The drills under way, on every page, with a way to end each. */
export function DrillLine() {
  const drills = useDrills()
  const stop = useStopDrill()
  if (!drills.data?.length) return null
  return (
    <div className="drills">
      {drills.data.map((d) => (
        <div key={d.number} className="row">
          <span role="status">
            ▲ Drill {d.number}: {d.what}
          </span>
          <Shown>{(now) => `${span(-secondsBetween(d.until_at, now))} left`}</Shown>
          <Button size="small" loading={stop.isPending} onClick={() => stop.mutate(d.number)}>
            Stop it
          </Button>
        </div>
      ))}
    </div>
  )
}
