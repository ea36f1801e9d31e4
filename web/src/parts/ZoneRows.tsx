import { memo, useState } from 'react'
import type { Group, Instance } from '../api/client'
import { useDrillOn } from './drillOn'
import { useMode } from './mode'
import { Slip, Tile, toneOf } from './Slip'
import { isFaint, isUnwell, lookOf, type Look } from './slipLook'
import { versionNumber } from './words'

interface Tip {
  says: string
  left: number
  top: number
}

/** What is said of the slip that is pointed at or has the focus; one tip serves all of them. */
function tipOf(target: EventTarget, around: HTMLElement): Tip | null {
  const slip = target instanceof Element ? target.closest('.slip') : null
  if (!slip) return null
  const at = slip.getBoundingClientRect()
  const of = around.getBoundingClientRect()
  return {
    says: slip.getAttribute('aria-label') ?? '',
    left: Math.max(0, Math.min(at.left - of.left, of.width - 380)),
    top: at.bottom - of.top + 6,
  }
}

/** Zones as rows of slips, in their fixed order. */
export const ZoneRows = memo(function ZoneRows({
  group,
  instances,
}: {
  group: Group
  instances: Instance[]
}) {
  const newest = [...new Set(instances.map((i) => versionNumber(i.version)))]
    .sort((a, b) => b - a)
    .slice(0, 4)
  const [tip, setTip] = useState<Tip | null>(null)
  const drillOn = useDrillOn()
  return (
    <div
      className="zones"
      onMouseOver={(e) => setTip(tipOf(e.target, e.currentTarget))}
      onMouseLeave={() => setTip(null)}
      onFocus={(e) => setTip(tipOf(e.target, e.currentTarget))}
      onBlur={() => setTip(null)}
      onKeyDown={(e) => e.key === 'Escape' && setTip(null)}
    >
      {tip && (
        <div className="tip" style={{ left: tip.left, top: tip.top }} aria-hidden>
          {tip.says}
        </div>
      )}
      {group.zones.map((zone) => {
        const here = instances.filter((i) => i.zone === zone)
        return (
          <Row key={zone} zone={zone} lost={group.summary.zones.some((z) => z.zone === zone && z.lost)}>
            {here.length === 0 && <span className="quiet">none here</span>}
            {here.map((i) => (
              <Slip
                key={i.id}
                instance={i}
                older={!newest.includes(versionNumber(i.version))}
                usual={group.usual_seconds}
                drill={drillOn(i)}
              />
            ))}
          </Row>
        )
      })}
    </div>
  )
})

function Row({ zone, lost, children }: { zone: string; lost: boolean; children: React.ReactNode }) {
  return (
    <>
      <span className={lost ? 'quiet struck' : 'quiet'}>{zone}</span>
      <div className="slips" role="group" aria-label={lost ? `${zone}, lost` : zone}>
        {children}
      </div>
    </>
  )
}

/** What slips may look like besides serving and healthy, and what that means. */
const signs: { says: string; is: (l: Look) => boolean; look: Look; progress?: number }[] = [
  {
    says: 'coming up',
    is: (l) => isFaint(l) && !l.held,
    look: { shape: 'rising', verdict: 'unknown' },
    progress: 0.5,
  },
  { says: 'unhealthy', is: isUnwell, look: { shape: 'serving', verdict: 'unhealthy' } },
  {
    says: 'held by a hook',
    is: (l) => l.held === true,
    look: { shape: 'rising', verdict: 'none', held: true },
    progress: 0.5,
  },
  { says: 'on its way out', is: (l) => l.shape === 'leaving', look: { shape: 'leaving', verdict: 'none' } },
  { says: 'lost', is: (l) => l.shape === 'lost', look: { shape: 'lost', verdict: 'none' } },
  { says: 'parked', is: (l) => l.shape === 'parked', look: { shape: 'parked', verdict: 'none' } },
  {
    says: 'pinned',
    is: (l) => l.pinned === true,
    look: { shape: 'serving', verdict: 'healthy', pinned: true },
  },
  {
    says: 'a drill',
    is: (l) => l.drilled === true,
    look: { shape: 'serving', verdict: 'healthy', drilled: true },
  },
]

/** What the tiles mean: the versions that are there, and the states and verdicts. */
export const Legend = memo(function Legend({ group, instances }: { group: Group; instances: Instance[] }) {
  const mode = useMode()
  const versions = instances.map((i) => i.version)
  const drillOn = useDrillOn()
  const looks = instances.map((i) => lookOf(i, drillOn(i) !== undefined))
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
              look={{ shape: 'serving', verdict: 'healthy' }}
            />
            {v.version}: {v.counted}, {v.serving} serving
          </span>
        )
      })}
      {signs
        .filter((sign) => looks.some(sign.is))
        .map((sign) => (
          <span key={sign.says}>
            <Tile label="" fill={tone.fill} ink={tone.ink} look={sign.look} progress={sign.progress} />{' '}
            {sign.says}
          </span>
        ))}
    </div>
  )
})
