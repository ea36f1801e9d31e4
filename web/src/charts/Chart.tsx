import { useEffect, useId, useRef, useState } from 'react'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { useMode } from '../parts/mode'
import {
  align,
  colours,
  nearest,
  timeOf,
  type Aligned,
  type Band,
  type Line,
  type Mark,
  type Series,
} from './data'

export interface ChartProps {
  /** What the chart shows, for who cannot see it. */
  label: string
  from: number // ms
  to: number // ms
  series: Series[]
  lines?: Line[]
  bands?: Band[]
  marks?: Mark[]
  height?: number
  /** Series are laid on each other as bars, each so wide (ms). */
  bars?: number
}

/** Values over time: by mouse, by keyboard (arrows go from point to point, which is spoken), and as a table. */
export function Chart(props: ChartProps) {
  const { label, series, marks = [], height = 260 } = props
  const mode = useMode()
  const box = useRef<HTMLDivElement>(null)
  const plot = useRef<uPlot | null>(null)
  const newest = useRef(props)
  const [at, setAt] = useState<number | null>(null)
  const id = useId()
  const aligned = align(series, props.bars !== undefined)
  const shape = JSON.stringify([
    mode,
    height,
    props.bars,
    series.map((s) => [s.name, s.unit, s.style, s.tone]),
  ])
  const data = useRef(aligned)
  useEffect(() => {
    newest.current = props
    data.current = aligned
  })
  useEffect(() => {
    const host = box.current
    if (!host) return
    const made = new uPlot(options(newest, mode, host.clientWidth, height, setAt), data.current.columns, host)
    plot.current = made
    const sized = new ResizeObserver(() => made.setSize({ width: host.clientWidth, height }))
    sized.observe(host)
    return () => {
      sized.disconnect()
      made.destroy()
      plot.current = null
    }
    // What is drawn is another only when its shape is; values come below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [shape])
  useEffect(() => {
    plot.current?.setData(aligned.columns)
  })
  const move = (to: number) => {
    const times = aligned.columns[0]
    if (times.length === 0) return
    const k = Math.max(0, Math.min(times.length - 1, to))
    setAt(k)
    const p = plot.current
    if (p) p.setCursor({ left: p.valToPos(times[k] ?? 0, 'x'), top: 10 })
  }
  const keys: Record<string, number> = {
    ArrowLeft: (at ?? aligned.columns[0].length) - 1,
    ArrowRight: (at ?? -1) + 1,
    PageUp: (at ?? 0) - 10,
    PageDown: (at ?? 0) + 10,
    Home: 0,
    End: aligned.columns[0].length - 1,
  }
  const said = at === null ? '' : tell(aligned, series, marks, at)
  return (
    <figure className="chart">
      <div
        ref={box}
        role="application"
        tabIndex={0}
        aria-label={`${label}. Arrows go from point to point.`}
        aria-describedby={id}
        onBlur={() => setAt(null)}
        onKeyDown={(e) => {
          const to = keys[e.key]
          if (to === undefined) return
          e.preventDefault()
          move(to)
        }}
      />
      <p id={id} className="quiet chart-says" aria-live="polite">
        {said || ' '}
      </p>
      <details>
        <summary>Show as a table</summary>
        <div className="chart-table">
          <table>
            <thead>
              <tr>
                <th>Time</th>
                {series.map((s) => (
                  <th key={s.name}>{s.name}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {aligned.columns[0].map((t, k) => (
                <tr key={t}>
                  <td>{timeOf(t)}</td>
                  {series.map((s, n) => (
                    <td key={s.name} className="number">
                      {say(aligned.raw[n]?.[k], s)}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
    </figure>
  )
}

const say = (v: number | null | undefined, s: Series) => (v === null || v === undefined ? '–' : s.say(v))

/** One moment, in words. */
function tell(a: Aligned, series: Series[], marks: Mark[], k: number): string {
  const t = a.columns[0][k]
  if (t === undefined) return ''
  const parts = series.flatMap((s, n) => {
    const v = a.raw[n]?.[k]
    return v === null || v === undefined ? [] : [`${s.name} ${s.say(v)}`]
  })
  const mark = nearest(marks, t, a.columns[0])
  return `${timeOf(t)}: ${parts.join(', ') || 'nothing was measured'}${mark ? `. ${mark.text}` : ''}`
}

function options(
  of: { current: ChartProps },
  mode: 'light' | 'dark',
  width: number,
  height: number,
  onMove: (k: number | null) => void,
): uPlot.Options {
  const style = getComputedStyle(document.documentElement)
  const ink = style.getPropertyValue('--quiet').trim() || '#777'
  const rule = style.getPropertyValue('--rule').trim() || '#ddd'
  const { series, bars } = of.current
  const units = [...new Set(series.map((s) => s.unit))]
  const font = "12px 'Inter Variable', system-ui, sans-serif"
  const palette = colours[mode]
  return {
    width,
    height,
    legend: { show: false },
    cursor: { drag: { x: false, y: false }, points: { size: 6 } },
    scales: {
      x: { time: true, range: () => [of.current.from / 1000, of.current.to / 1000] },
      ...Object.fromEntries(
        units.map((u) => [
          u || 'count',
          {
            range: (_: uPlot, __: number, most: number): [number, number] => {
              const lines = (of.current.lines ?? []).filter((l) => l.unit === u).map((l) => l.at)
              return [0, Math.max(1e-9, most || 0, ...lines) * 1.08]
            },
          },
        ]),
      ),
    },
    axes: [
      {
        stroke: ink,
        font,
        grid: { show: false },
        ticks: { stroke: rule },
        values: (_, times) => times.map((t) => timeOf(t, of.current.to - of.current.from)),
      },
      ...units.slice(0, 3).map((u, n) => ({
        scale: u || 'count',
        side: (n === 0 ? 3 : 1) as never, // an enum that is not there when it runs: left, right
        stroke: ink,
        font,
        size: 64,
        grid: { show: n === 0, stroke: rule, width: 1 },
        ticks: { show: false },
        values: (_: uPlot, values: number[]) =>
          values.map((v) => series.find((s) => s.unit === u)?.say(v) ?? String(v)),
      })),
    ],
    series: [
      {},
      ...series.map((s) => ({
        label: s.name,
        scale: s.unit || 'count',
        stroke: palette[s.tone].line,
        width: s.style === 'thin' || s.style === 'dashed' ? 1 : 2,
        ...(s.style === 'dashed' ? { dash: [5, 4] } : {}),
        points: { show: false },
        spanGaps: false,
        ...(bars === undefined
          ? s.style === 'steps' || s.style === 'dashed'
            ? paths(uPlot.paths.stepped?.({ align: 1 }))
            : {}
          : { fill: palette[s.tone].fill, ...paths(uPlot.paths.bars?.({ size: [0.9, 60], align: 1 })) }),
      })),
    ],
    hooks: {
      drawClear: [(u) => drawBands(u, of.current.bands ?? [], rule, ink)],
      draw: [
        (u) => {
          drawLines(u, of.current.lines ?? [], ink, font)
          drawMarks(u, of.current.marks ?? [], ink)
        },
      ],
      setCursor: [(u) => onMove(u.cursor.idx ?? null)],
    },
  }
}

const paths = (how: uPlot.Series.PathBuilder | undefined) => (how ? { paths: how } : {})

/** Times in which a calendar lasts are shaded, with their names on top. */
function drawBands(u: uPlot, bands: Band[], fill: string, ink: string) {
  const { ctx, bbox } = u
  ctx.save()
  for (const b of bands) {
    const left = Math.max(bbox.left, u.valToPos(b.from / 1000, 'x', true))
    const right = Math.min(bbox.left + bbox.width, u.valToPos(b.until / 1000, 'x', true))
    if (right <= left) continue
    ctx.globalAlpha = 0.5
    ctx.fillStyle = fill
    ctx.fillRect(left, bbox.top, right - left, bbox.height)
    ctx.globalAlpha = 1
    ctx.fillStyle = ink
    ctx.font = `${11 * devicePixelRatio}px 'Inter Variable', system-ui, sans-serif`
    ctx.textBaseline = 'top'
    const narrow = right - left < ctx.measureText(b.name).width + 8 * devicePixelRatio
    ctx.textAlign = narrow ? 'right' : 'left'
    ctx.fillText(
      b.name,
      narrow ? right - 4 * devicePixelRatio : left + 4 * devicePixelRatio,
      bbox.top + 2 * devicePixelRatio,
    )
  }
  ctx.restore()
}

/** The lines of rules, with their names at their end. */
function drawLines(u: uPlot, lines: Line[], ink: string, font: string) {
  const { ctx, bbox } = u
  ctx.save()
  ctx.strokeStyle = ink
  ctx.fillStyle = ink
  ctx.lineWidth = devicePixelRatio
  ctx.setLineDash([2 * devicePixelRatio, 3 * devicePixelRatio])
  ctx.font = font.replace('12px', `${11 * devicePixelRatio}px`)
  ctx.textAlign = 'right'
  ctx.textBaseline = 'bottom'
  for (const l of lines) {
    const y = u.valToPos(l.at, l.unit || 'count', true)
    if (y < bbox.top || y > bbox.top + bbox.height) continue
    ctx.beginPath()
    ctx.moveTo(bbox.left, y)
    ctx.lineTo(bbox.left + bbox.width, y)
    ctx.stroke()
    ctx.fillText(l.name, bbox.left + bbox.width - 4 * devicePixelRatio, y - 2 * devicePixelRatio)
  }
  ctx.restore()
}

/** Every change is a triangle on the axis: up when it grew. */
function drawMarks(u: uPlot, marks: Mark[], ink: string) {
  const { ctx, bbox } = u
  const size = 5 * devicePixelRatio
  ctx.save()
  ctx.fillStyle = ink
  for (const m of marks) {
    const x = u.valToPos(m.at / 1000, 'x', true)
    if (x < bbox.left || x > bbox.left + bbox.width) continue
    const y = bbox.top + bbox.height
    ctx.beginPath()
    ctx.moveTo(x - size, m.up ? y : y - size)
    ctx.lineTo(x + size, m.up ? y : y - size)
    ctx.lineTo(x, m.up ? y - size : y)
    ctx.fill()
  }
  ctx.restore()
}

/** What each colour and line is. */
export function ChartLegend({
  series,
  bands,
  sizes = true,
}: {
  series: Series[]
  bands?: boolean
  sizes?: boolean
}) {
  const mode = useMode()
  return (
    <div className="legend">
      {series.map((s) => (
        <span key={s.name}>
          <svg width="22" height="10" aria-hidden>
            <line
              x1="0"
              y1="5"
              x2="22"
              y2="5"
              stroke={colours[mode][s.tone].line}
              strokeWidth={s.style === 'dashed' || s.style === 'thin' ? 1 : 2.5}
              strokeDasharray={s.style === 'dashed' ? '5 4' : undefined}
            />
          </svg>
          {s.name}
        </span>
      ))}
      {bands && (
        <span>
          <svg width="14" height="10" aria-hidden>
            <rect width="14" height="10" fill="var(--rule)" />
          </svg>
          a calendar lasts
        </span>
      )}
      {sizes && <span>▲▼ a change of size</span>}
    </div>
  )
}
