import { memo } from 'react'
import { Link } from 'react-router'
import type { Instance } from '../api/client'
import { older, tones, type Mode } from '../theme'
import { useMode } from './mode'
import { useNow } from './now'
import { edgeOf, isFaint, isHollow, isUnwell, lookOf, type Look } from './slipLook'
import { clock, secondsBetween, span, versionNumber } from './words'

/**
 * The tone of a version, which stays the same while it lives, whatever comes beside it: the
 * next version is deeper, until the tones begin again with the lightest. What has more than
 * three versions after it is older than the tones tell apart.
 */
export function toneOf(versions: string[], version: string, mode: Mode) {
  const newer = new Set(versions.map(versionNumber).filter((n) => n > versionNumber(version)))
  if (newer.size > 3) return older[mode]
  return tones[mode][(versionNumber(version) + 1) % 4] ?? older[mode]
}

interface Props {
  instance: Instance
  /** Its version is older than the tones tell apart. */
  older: boolean
  usual?: number | undefined
  /** A fault that is made of it on purpose, in words. */
  drill?: string | undefined
  now: number
}

/** One instance as a tile: fill is its version, edge its state, corner its verdict. */
export function Slip(props: Omit<Props, 'now'>) {
  return rising(props.instance) ? <RisingSlip {...props} /> : <StillSlip {...props} now={0} />
}

/** Whether it comes up, so that its progress and its words change with the clock. */
const rising = (i: Instance) => ['ordered', 'booting', 'held', 'settling'].includes(i.state)

/** Only what comes up is drawn anew with the clock. */
function RisingSlip(props: Omit<Props, 'now'>) {
  return <AnySlip {...props} now={useNow()} />
}

const StillSlip = memo(
  AnySlip,
  (a, b) =>
    sameSlip(a.instance, b.instance) && a.usual === b.usual && a.older === b.older && a.drill === b.drill,
)

/** Whether two tellings of an instance look the same: requests in flight show on the way out alone. */
function sameSlip(a: Instance, b: Instance): boolean {
  if (a === b) return true
  if (a.state === 'draining' || a.id !== b.id) return false
  return (Object.keys(a) as (keyof Instance)[]).every((k) => k === 'in_flight' || a[k] === b[k])
}

function AnySlip({ instance, older: old, usual, drill, now }: Props) {
  const mode = useMode()
  const tone = old ? older[mode] : toneOf([], instance.version, mode)
  const age = Math.max(secondsBetween(instance.ordered_at, now), 0)
  const look = lookOf(instance, drill !== undefined)
  const progress = isFaint(look) ? Math.min(age / (usual && usual > 0 ? usual : 30), 0.95) : undefined
  const sentence = say(instance, age, usual, drill)
  return (
    <Link
      to={`/instances/${instance.id}`}
      className="slip"
      aria-label={sentence}
      data-instance={instance.id}
      data-state={instance.state}
    >
      <Tile
        label={String(versionNumber(instance.version))}
        fill={tone.fill}
        ink={tone.ink}
        look={look}
        progress={progress}
      />
    </Link>
  )
}

/** One instance in a sentence, as of now. */
export const saySlip = (i: Instance, usual: number | undefined, drill: string | undefined) =>
  say(i, Math.max(secondsBetween(i.ordered_at, Date.now()), 0), usual, drill)

const say = (i: Instance, age: number, usual: number | undefined, drill: string | undefined) =>
  stateOf(i, age, usual) + (drill ? `; a drill: ${drill}` : '')

function stateOf(i: Instance, age: number, usual: number | undefined): string {
  const purpose = i.purpose === 'size' ? '' : `, launched for ${i.purpose}`
  const head = `${i.id}, ${i.version} in ${i.zone}${purpose}, ${i.state}`
  const open = i.tickets.filter((t) => t.state === 'open')
  if (open.length > 0) return `${head} by ${open.map((t) => `${t.hook}: ${t.sentence}`).join('; ')}`
  if (['ordered', 'booting', 'settling'].includes(i.state)) {
    if (i.overdue)
      return `${head}, not healthy in its time; ${i.reports.map((r) => `${r.check} ${r.why}`).join(', ') || i.why}`
    return `${head} for ${span(age)}${usual ? `, usually ${span(usual)}` : ''}; ${i.reports.map((r) => `${r.check} ${r.why}`).join(', ') || i.why}`
  }
  if (i.state === 'draining') return `${head} with ${i.in_flight} requests in flight; ${i.why}`
  return `${head} since ${clock(i.since)}${i.pinned ? ', pinned' : ''}, ${i.verdict}; ${i.why}`
}

interface TileProps {
  label: string
  fill: string
  ink: string
  look: Look
  /** How far it has come up, from 0 to 1. */
  progress?: number | undefined
}

const width = 44
const height = 38

const edges = { trouble: 'var(--trouble)', quiet: 'var(--quiet)' }

export function Tile({ label, fill, ink: onTone, look, progress }: TileProps) {
  const edge = edgeOf(look)
  const ink = look.shape === 'serving' ? onTone : 'var(--ink)'
  return (
    <svg width={width} height={height} viewBox={`0 0 ${width} ${height}`} aria-hidden>
      <rect
        x="1.5"
        y="1.5"
        width={width - 3}
        height={height - 3}
        rx="5"
        fill={isHollow(look) ? 'transparent' : fill}
        fillOpacity={isFaint(look) ? 0.45 : 1}
        stroke={edge === 'tone' ? fill : edges[edge]}
        strokeWidth={isUnwell(look) ? 2.5 : 1.5}
        strokeDasharray={isFaint(look) ? '4 3' : undefined}
      />
      {look.shape === 'leaving' && <Hatching />}
      {look.shape === 'lost' && (
        <path d={`M6 6 L${width - 6} ${height - 6}`} stroke="var(--trouble)" strokeWidth="2" />
      )}
      <text
        x="20"
        y="25"
        textAnchor="middle"
        fontSize="16"
        fontWeight="600"
        fill={ink}
        stroke={look.shape === 'leaving' ? 'var(--paper)' : 'none'}
        strokeWidth="4"
        paintOrder="stroke"
      >
        {label}
      </text>
      {look.pinned && <path d="M3 3 H13 L3 13 Z" fill="var(--ink)" stroke="var(--paper)" strokeWidth="1" />}
      {look.drilled && (
        <text
          x="4"
          y={height - 8}
          fontSize="10"
          fontWeight="700"
          fill="var(--waiting)"
          stroke="var(--paper)"
          strokeWidth="3"
          paintOrder="stroke"
        >
          D
        </text>
      )}
      {look.held && <Notch />}
      <Mark verdict={look.verdict} ink={ink} />
      {progress !== undefined && (
        <rect x="5" y={height - 6} width={(width - 10) * progress} height="2" fill="var(--waiting)" />
      )}
    </svg>
  )
}

/** A bite out of the edge: a hook holds it. */
function Notch() {
  return <path d={`M0 12 L9 19 L0 26 Z`} fill="var(--paper)" stroke="var(--waiting)" strokeWidth="2" />
}

function Hatching() {
  const lines = [8, 16, 24, 32, 40, 48, 56, 64, 72].map((x) => `M${x} 3 L${x - 32} 35`).join(' ')
  return (
    <>
      <clipPath id="slip-inside">
        <rect x="2.5" y="2.5" width={width - 5} height={height - 5} rx="4" />
      </clipPath>
      <path d={lines} stroke="var(--quiet)" strokeWidth="1" clipPath="url(#slip-inside)" />
    </>
  )
}

function Mark({ verdict, ink }: { verdict: Look['verdict']; ink: string }) {
  switch (verdict) {
    case 'healthy':
      return <circle cx="36.5" cy="8.5" r="2.8" fill={ink} />
    case 'unhealthy':
      return (
        <path d="M36 4 L41.5 13 L30.5 13 Z" fill="var(--trouble)" stroke="var(--paper)" strokeWidth="1" />
      )
    case 'unknown':
      return (
        <text x="36.5" y="13" textAnchor="middle" fontSize="11" fontWeight="600" fill={ink}>
          ?
        </text>
      )
    case 'none':
      return null
  }
}
