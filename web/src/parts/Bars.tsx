import { Tooltip } from 'antd'
import type { Group } from '../api/client'
import { toneOf } from './Slip'
import { useMode } from './mode'
import { versionNumber } from './words'

type ZoneCount = Group['summary']['zones'][number]

/**
 * A bar for each zone, one unit long for each instance: solid serves, vermilion
 * with triangles is unhealthy, dashed comes up, hatched goes out, hollow is
 * parked. The longest zone of the group fills the width.
 */
export function ZoneBars({ group, mix = false }: { group: Group; mix?: boolean }) {
  const zones = group.summary.zones
  const longest = Math.max(1, ...zones.map(total))
  return (
    <div className="zones bars">
      {zones.map((z) => (
        <ZoneBar key={z.zone} zone={z} longest={longest} />
      ))}
      {mix && group.summary.versions.length > 0 && (
        <>
          <span className="quiet">versions</span>
          <VersionMix group={group} />
        </>
      )}
    </div>
  )
}

const total = (z: ZoneCount) => z.serving + z.unhealthy + z.coming_up + z.going_out + z.parked

const kinds = [
  { key: 'serving', word: 'serving', mark: '●' },
  { key: 'unhealthy', word: 'unhealthy', mark: '▲' },
  { key: 'coming_up', word: 'coming up', mark: '…' },
  { key: 'going_out', word: 'going out', mark: '⁄' },
  { key: 'parked', word: 'parked', mark: '○' },
] as const

function ZoneBar({ zone, longest }: { zone: ZoneCount; longest: number }) {
  const words = kinds.filter((k) => zone[k.key] > 0).map((k) => `${zone[k.key]} ${k.word}`)
  const sentence = (words.join(', ') || 'none here') + (zone.lost ? '; launches there fail' : '')
  return (
    <>
      <span className={zone.lost ? 'quiet struck' : 'quiet'}>{zone.zone}</span>
      <Tooltip title={`${zone.zone}: ${sentence}`}>
        <div className="bar-line" role="img" aria-label={`${zone.zone}: ${sentence}`}>
          {kinds.map(
            (k) =>
              zone[k.key] > 0 && (
                <span key={k.key} className={`piece ${k.key}`} style={{ width: wide(zone[k.key], longest) }}>
                  {k.mark} {zone[k.key]}
                </span>
              ),
          )}
        </div>
      </Tooltip>
    </>
  )
}

/** A part of the width, and no more than a slip's for each instance. */
const wide = (n: number, of: number) => `min(${(n / of) * 100}%, ${n * 56}px)`

/** How many instances run which version, newest deep. */
function VersionMix({ group }: { group: Group }) {
  const mode = useMode()
  const versions = group.summary.versions
  const all = versions.reduce((n, v) => n + v.counted, 0)
  const names = versions.map((v) => v.version)
  if (all === 0) return null
  return (
    <div
      className="bar-line"
      role="img"
      aria-label={versions.map((v) => `${v.counted} on ${v.version}`).join(', ')}
    >
      {versions.map((v) => {
        const tone = toneOf(names, v.version, mode)
        return (
          <span
            key={v.version}
            className="piece"
            title={`${v.counted} on ${v.version}`}
            style={{ width: wide(v.counted, all), background: tone.fill, color: tone.ink }}
          >
            @{versionNumber(v.version)}: {v.counted}
          </span>
        )
      })}
    </div>
  )
}

/** The size between its bounds, with how many serve. */
export function Bounds({ group }: { group: Group }) {
  const { min, max, size } = group
  const at = (n: number) => (max === 0 ? 0 : (Math.min(n, max) / max) * 100)
  const text = `${group.summary.serving} serving, size ${size}, between ${min} and ${max}`
  return (
    <Tooltip title={text}>
      <svg className="bounds" viewBox="0 0 100 14" preserveAspectRatio="none" role="img" aria-label={text}>
        <line x1="0" y1="7" x2="100" y2="7" stroke="var(--rule)" strokeWidth="2" />
        <line x1={at(min)} y1="7" x2="100" y2="7" stroke="var(--quiet)" strokeWidth="2" />
        <rect x="0" y="4.5" width={at(group.summary.serving)} height="5" fill="var(--deep)" />
        <rect x={Math.min(at(size), 99)} y="0" width="1" height="14" fill="var(--ink)" />
      </svg>
    </Tooltip>
  )
}
