import { Button } from 'antd'
import { memo, useState } from 'react'
import type { Group, Rollout } from '../api/client'
import { later } from '../parts/later'

const RolloutView = later(async () => (await import('../parts/RolloutView')).RolloutView)
const StartRollout = later(async () => (await import('./StartRollout')).StartRollout)

/** The live rollout or the last one, and what can be done about it. */
export const RolloutSection = memo(function RolloutSection({
  group,
  rollout,
  instances,
}: {
  group: Group
  rollout: Rollout | null
  instances: string[]
}) {
  const [starting, setStarting] = useState(false)
  const live = rollout && !rollout.ended_at ? rollout : null
  return (
    <>
      {rollout ? (
        <RolloutView group={group} rollout={rollout} />
      ) : (
        <p className="quiet">
          All run what they were launched with; there has been no rollout. Here its waves are shown as they
          pass.
        </p>
      )}
      {live && (
        <Button
          size="small"
          style={{ marginTop: 8 }}
          disabled={group.deleting}
          onClick={() => setStarting(true)}
        >
          Go to another version instead…
        </Button>
      )}
      {!live && (
        <Button type="primary" disabled={group.deleting} onClick={() => setStarting(true)}>
          Start a rollout
        </Button>
      )}
      {starting && (
        <StartRollout
          group={group}
          instances={instances}
          supersede={live !== null}
          onClose={() => setStarting(false)}
        />
      )}
    </>
  )
})
