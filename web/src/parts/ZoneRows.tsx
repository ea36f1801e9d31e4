import type { Group, Instance } from '../api/client'
import { useMode } from './mode'
import { Slip, Tile, toneOf } from './Slip'
import { versionNumber } from './words'

/** Zones as rows of slips, in their fixed order. */
export function ZoneRows({ group, instances, now }: { group: Group; instances: Instance[]; now: number }) {
  const versions = instances.map((i) => i.version)
  return (
    <div className="zones">
      {group.zones.map((zone) => {
        const here = instances.filter((i) => i.zone === zone)
        return (
          <Row key={zone} zone={zone}>
            {here.length === 0 && <span className="quiet">none here</span>}
            {here.map((i) => (
              <Slip key={i.id} instance={i} versions={versions} usual={group.usual_seconds} now={now} />
            ))}
          </Row>
        )
      })}
    </div>
  )
}

function Row({ zone, children }: { zone: string; children: React.ReactNode }) {
  return (
    <>
      <span className="quiet">{zone}</span>
      <div className="slips" role="group" aria-label={zone}>
        {children}
      </div>
    </>
  )
}

/** What the tiles mean: the versions that are there, and the states and verdicts. */
export function Legend({ group, instances }: { group: Group; instances: Instance[] }) {
  const mode = useMode()
  const versions = instances.map((i) => i.version)
  const tone = toneOf(['x@1'], 'x@1', mode)
  return (
    <div className="legend">
      {group.summary.versions.map((v) => {
        const t = toneOf(versions, v.version, mode)
        return (
          <span key={v.version}>
            <Tile
              label={String(versionNumber(v.version))}
              fill={t.fill}
              ink={t.ink}
              state="serving"
              verdict="healthy"
            />
            {v.version}: {v.counted}, {v.serving} serving
          </span>
        )
      })}
      {instances.some((i) => ['ordered', 'booting', 'settling'].includes(i.state)) && (
        <span>
          <Tile label="" fill={tone.fill} ink={tone.ink} state="settling" verdict="unknown" progress={0.5} />{' '}
          coming up
        </span>
      )}
      {instances.some((i) => i.overdue || (i.state === 'serving' && i.verdict === 'unhealthy')) && (
        <span>
          <Tile label="" fill={tone.fill} ink={tone.ink} state="serving" verdict="unhealthy" /> unhealthy
        </span>
      )}
      {instances.some((i) => i.state === 'draining' || i.state === 'leaving') && (
        <span>
          <Tile label="" fill={tone.fill} ink={tone.ink} state="draining" verdict="healthy" /> on its way out
        </span>
      )}
      {instances.some((i) => i.state === 'held') && (
        <span>
          <Tile label="" fill={tone.fill} ink={tone.ink} state="held" verdict="unknown" progress={0.5} /> held
          by a hook
        </span>
      )}
      {instances.some((i) => i.state === 'parked') && (
        <span>
          <Tile label="" fill={tone.fill} ink={tone.ink} state="parked" verdict="unknown" /> parked
        </span>
      )}
    </div>
  )
}
