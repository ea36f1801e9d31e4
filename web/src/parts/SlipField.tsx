import { useEffect, useMemo, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Group, Instance } from '../api/client'
import { older, type Mode } from '../theme'
import { useMode } from './mode'
import { saySlip, toneOf } from './Slip'
import {
  between,
  goes,
  inTrouble,
  layoutOf,
  nextInTrouble,
  placeOf,
  slipAt,
  summaryOf,
  tile,
  type Layout,
} from './slipField'
import { useDrillOn } from './drillOn'
import { edgeOf, isFaint, isHollow, isUnwell, keyOf, lookOf, type Look } from './slipLook'
import { versionNumber } from './words'

/**
 * The slips of a group that has too many for elements, painted on a canvas as large as what is
 * seen of them. One link goes over the slip that has the focus: arrows, Home, End and n for
 * the next in trouble move it; each zone is told in words; the table has all of them.
 */
export function SlipField({ group, instances }: { group: Group; instances: Instance[] }) {
  const mode = useMode()
  const navigate = useNavigate()
  const drillOn = useDrillOn()
  const box = useRef<HTMLDivElement>(null)
  const canvas = useRef<HTMLCanvasElement>(null)
  const link = useRef<HTMLAnchorElement>(null)
  const [room, setRoom] = useState({ width: 1100, height: 440 })
  const [top, setTop] = useState(0)
  const [at, setAt] = useState('')
  const [tip, setTip] = useState<{ n: number; x: number; y: number }>()
  const layout = useMemo(
    () => layoutOf(group.zones, instances, room.width),
    [group.zones, instances, room.width],
  )
  const newest = useMemo(() => newestOf(instances), [instances])
  const focused = Math.max(
    layout.order.findIndex((i) => i.id === at),
    0,
  )
  useEffect(() => {
    const e = box.current
    if (!e) return
    const watch = new ResizeObserver(() => {
      setRoom({ width: e.clientWidth, height: e.clientHeight })
    })
    watch.observe(e)
    return () => {
      watch.disconnect()
    }
  }, [])
  useEffect(() => {
    const c = canvas.current
    if (!c) return
    const frame = requestAnimationFrame(() => {
      paint(c, layout, newest, mode, top, room, drillOn)
    })
    return () => {
      cancelAnimationFrame(frame)
    }
  }, [layout, newest, mode, top, room, drillOn])

  const show = (n: number) => {
    const i = layout.order[n]
    const e = box.current
    if (!i || !e) return
    setAt(i.id)
    const { y } = placeOf(layout, n)
    if (y < e.scrollTop) e.scrollTop = y
    if (y + tile.height > e.scrollTop + e.clientHeight) e.scrollTop = y + tile.height - e.clientHeight + 8
    link.current?.focus({ preventScroll: true })
  }
  const pointed = (e: React.MouseEvent<HTMLElement>) => {
    const r = e.currentTarget.getBoundingClientRect()
    return slipAt(layout, e.clientX - r.left, e.clientY - r.top)
  }
  const present = layout.order[focused]
  const place = placeOf(layout, focused)
  const bad = instances.filter(inTrouble).length
  const told = tip && layout.order[tip.n]
  return (
    <div>
      <ul className="unseen">
        {layout.zones.map((z) => (
          <li key={z.zone}>{summaryOf(z.zone, z.slips)}</li>
        ))}
      </ul>
      <div className="row" style={{ marginBottom: 6 }}>
        <span className="quiet">
          {instances.length.toLocaleString()} slips; arrows go through them, Enter opens one.
        </span>
        {bad > 0 && (
          <button
            type="button"
            className="taken trouble"
            onClick={() => {
              show(nextInTrouble(layout, at === '' ? -1 : focused))
            }}
          >
            ▲ Next of {bad.toLocaleString()} in trouble (n)
          </button>
        )}
      </div>
      <div
        ref={box}
        className="slip-field"
        data-testid="slip-field"
        onScroll={(e) => {
          setTop(e.currentTarget.scrollTop)
        }}
      >
        <div
          style={{ height: layout.height, position: 'relative' }}
          onMouseMove={(e) => {
            const n = pointed(e)
            const p = n >= 0 ? placeOf(layout, n) : undefined
            setTip(p && { n, ...p })
          }}
          onMouseLeave={() => {
            setTip(undefined)
          }}
          onClick={(e) => {
            const i = layout.order[pointed(e)]
            if (i && e.target !== link.current) void navigate(`/instances/${i.id}`)
          }}
        >
          <canvas ref={canvas} aria-hidden style={{ position: 'sticky', top: 0, display: 'block' }} />
          {present && (
            <Link
              ref={link}
              to={`/instances/${present.id}`}
              className="slip-over"
              style={{ left: place.x, top: place.y, width: tile.width, height: tile.height }}
              aria-label={saySlip(present, group.usual_seconds, drillOn(present))}
              onKeyDown={(e) => {
                const to = goes(layout, focused, e.key)
                if (to === undefined || e.ctrlKey || e.metaKey || e.altKey) return
                e.preventDefault()
                show(to)
              }}
            />
          )}
          {tip && told && (
            <div
              className="tip"
              style={{
                left: Math.max(0, Math.min(tip.x, room.width - 380)),
                top: tip.y + tile.height + 6,
              }}
              aria-hidden
            >
              {saySlip(told, group.usual_seconds, drillOn(told))}
            </div>
          )}
        </div>
      </div>
    </div>
  )
}

const newestOf = (instances: Instance[]) =>
  [...new Set(instances.map((i) => versionNumber(i.version)))].sort((a, b) => b - a).slice(0, 4)

/** Pictures of slips by how they look, made once each and then copied. */
const stamps = new Map<string, HTMLCanvasElement>()

/** Paints what is seen of the field, and nothing else. */
function paint(
  canvas: HTMLCanvasElement,
  layout: Layout,
  newest: number[],
  mode: Mode,
  top: number,
  room: { width: number; height: number },
  drillOn: (i: Instance) => string | undefined,
) {
  const dense = window.devicePixelRatio || 1
  if (canvas.width !== room.width * dense || canvas.height !== room.height * dense) {
    canvas.width = room.width * dense
    canvas.height = room.height * dense
    canvas.style.width = `${room.width}px`
    canvas.style.height = `${room.height}px`
  }
  const c = canvas.getContext('2d')
  if (!c) return
  const ink = inks()
  c.setTransform(dense, 0, 0, dense, 0, 0)
  c.clearRect(0, 0, room.width, room.height)
  c.font = "14px 'Inter Variable', system-ui, sans-serif"
  c.fillStyle = ink.quiet
  for (const z of layout.zones)
    if (z.top - top > -20 && z.top - top < room.height)
      c.fillText(z.zone, 0, z.top - top + 16, tile.label - 8)
  for (const n of between(layout, top, top + room.height)) {
    const i = layout.order[n]
    if (!i) continue
    const old = !newest.includes(versionNumber(i.version))
    const look = lookOf(i, drillOn(i) !== undefined)
    const key = `${mode}/${dense}/${old ? 'o' : ''}${versionNumber(i.version)}/${keyOf(look)}`
    let stamp = stamps.get(key)
    if (!stamp) {
      if (stamps.size > 500) stamps.clear()
      stamp = stampOf(i.version, look, old, mode, dense, ink)
      stamps.set(key, stamp)
    }
    const { x, y } = placeOf(layout, n)
    c.drawImage(stamp, x, y - top, tile.width, tile.height)
  }
}

interface Inks {
  ink: string
  quiet: string
  paper: string
  trouble: string
  waiting: string
}

function inks(): Inks {
  const of = getComputedStyle(document.documentElement)
  const read = (name: string) => of.getPropertyValue(name).trim()
  return {
    ink: read('--ink'),
    quiet: read('--quiet'),
    paper: read('--paper'),
    trouble: read('--trouble'),
    waiting: read('--waiting'),
  }
}

/** One slip, by the same signs as the large one: fill, edge, number and corner. */
function stampOf(
  version: string,
  look: Look,
  old: boolean,
  mode: Mode,
  dense: number,
  ink: Inks,
): HTMLCanvasElement {
  const stamp = document.createElement('canvas')
  const { width: w, height: h } = tile
  stamp.width = w * dense
  stamp.height = h * dense
  const c = stamp.getContext('2d')
  if (!c) return stamp
  c.scale(dense, dense)
  const tone = old ? older[mode] : toneOf([], version, mode)
  const edge = edgeOf(look)
  const onTop = look.shape === 'serving' ? tone.ink : ink.ink
  c.beginPath()
  c.roundRect(1, 1, w - 2, h - 2, 3)
  if (!isHollow(look)) {
    c.globalAlpha = isFaint(look) ? 0.45 : 1
    c.fillStyle = tone.fill
    c.fill()
    c.globalAlpha = 1
  }
  c.lineWidth = isUnwell(look) ? 2 : 1.2
  c.strokeStyle = edge === 'tone' ? tone.fill : ink[edge]
  if (isFaint(look)) c.setLineDash([3, 2])
  c.stroke()
  c.setLineDash([])
  if (look.shape === 'leaving') hatch(c, w, h, ink.quiet)
  if (look.shape === 'lost') line(c, 4, 4, w - 4, h - 4, ink.trouble)
  if (look.held) notch(c, h, ink)
  c.fillStyle = onTop
  c.font = "600 11px 'Inter Variable', system-ui, sans-serif"
  c.textAlign = 'center'
  c.fillText(String(versionNumber(version)), w / 2 - 2, h / 2 + 4)
  corner(c, look.verdict, onTop, ink)
  if (look.drilled) {
    c.font = "700 8px 'Inter Variable', system-ui, sans-serif"
    c.lineWidth = 2
    c.strokeStyle = ink.paper
    c.strokeText('D', 5, h - 3)
    c.fillStyle = ink.waiting
    c.fillText('D', 5, h - 3)
  }
  if (look.pinned) {
    c.fillStyle = ink.ink
    triangle(c, 2, 2, 8, 2, 2, 8)
  }
  return stamp
}

function line(c: CanvasRenderingContext2D, x: number, y: number, toX: number, toY: number, tone: string) {
  c.strokeStyle = tone
  c.beginPath()
  c.moveTo(x, y)
  c.lineTo(toX, toY)
  c.stroke()
}

function triangle(c: CanvasRenderingContext2D, ...p: [number, number, number, number, number, number]) {
  c.beginPath()
  c.moveTo(p[0], p[1])
  c.lineTo(p[2], p[3])
  c.lineTo(p[4], p[5])
  c.closePath()
  c.fill()
}

function hatch(c: CanvasRenderingContext2D, w: number, h: number, tone: string) {
  c.save()
  c.clip()
  c.lineWidth = 1
  for (let x = 4; x < w + h; x += 5) line(c, x, 1, x - h, h - 1, tone)
  c.restore()
}

function notch(c: CanvasRenderingContext2D, h: number, ink: Inks) {
  c.fillStyle = ink.waiting
  triangle(c, 0, h / 2 - 5, 6, h / 2, 0, h / 2 + 5)
}

function corner(c: CanvasRenderingContext2D, verdict: Look['verdict'], tone: string, ink: Inks) {
  if (verdict === 'healthy') {
    c.fillStyle = tone
    c.beginPath()
    c.arc(21.5, 5.5, 1.8, 0, 7)
    c.fill()
  } else if (verdict === 'unhealthy') {
    c.fillStyle = ink.trouble
    triangle(c, 21, 2, 25, 9, 17, 9)
  } else if (verdict === 'unknown') {
    c.fillStyle = tone
    c.font = "600 9px 'Inter Variable', system-ui, sans-serif"
    c.fillText('?', 21.5, 9)
  }
}
