/** A point of a series; a gap has no value. */
export interface Point {
  at: number // ms
  value: number | null
}

export interface Series {
  name: string
  unit: string
  tone: 0 | 1 | 2 | 3 | 4
  /** A line, a thin one, or one that keeps its value until the next. */
  style: 'line' | 'thin' | 'steps' | 'dashed'
  points: Point[]
  say: (v: number) => string
  /** A longer time without a value than so (ms) is a gap. */
  gap?: number
}

/** A line that a rule goes by. */
export interface Line {
  at: number
  unit: string
  name: string
}

/** A time that is shaded. */
export interface Band {
  from: number
  until: number
  name: string
}

/** Something that happened. */
export interface Mark {
  at: number
  up: boolean
  text: string
}

export interface Aligned {
  columns: [number[], ...(number | null)[][]] // times in s, then what is drawn
  raw: (number | null)[][] // what was measured
}

/** Told apart by lightness and dash, not by hue alone. */
export const colours = {
  light: [
    { line: '#1b1a18', fill: '#1b1a18' },
    { line: '#16618c', fill: '#16618c' },
    { line: '#b06a00', fill: '#b4d5e6' },
    { line: '#68a9ca', fill: '#68a9ca' },
    { line: '#8a8680', fill: '#e3eff5' },
  ],
  dark: [
    { line: '#e8e6e1', fill: '#e8e6e1' },
    { line: '#8fd0f2', fill: '#8fd0f2' },
    { line: '#e6b450', fill: '#25506a' },
    { line: '#3f87ad', fill: '#3f87ad' },
    { line: '#8d8a84', fill: '#1c2c36' },
  ],
} as const

/** All series on one axis of time. Steps keep their value; others have none where they have no point. */
export function align(series: Series[], stacked = false): Aligned {
  const times = [...new Set(series.flatMap((s) => s.points.map((p) => p.at)))].sort((a, b) => a - b)
  const raw = series.map((s) => {
    const keeps = s.style === 'steps' || s.style === 'dashed'
    let k = 0
    let last: Point | undefined
    return times.map((t) => {
      for (let next = s.points[k]; next && next.at <= t; next = s.points[++k]) last = next
      if (!last) return null
      if (keeps || last.at === t) return last.value
      // Between two points of its own a line goes on, unless they are too far apart.
      const next = s.points[k]
      if (!next || last.value === null || next.value === null || next.at - last.at > (s.gap ?? Infinity))
        return null
      return last.value + ((next.value - last.value) * (t - last.at)) / (next.at - last.at)
    })
  })
  const drawn = stacked ? stack(raw) : raw
  return { columns: [times.map((t) => t / 1000), ...drawn], raw }
}

/** Each laid on those after it, so that the first is drawn over the others. */
function stack(raw: (number | null)[][]): number[][] {
  const sums: number[][] = []
  for (let n = raw.length - 1; n >= 0; n--) {
    const below = sums[0]
    sums.unshift((raw[n] ?? []).map((v, k) => (v ?? 0) + (below?.[k] ?? 0)))
  }
  return sums
}

/** What happened nearest to a time, within the distance of points. */
export function nearest(marks: Mark[], t: number, times: number[]): Mark | undefined {
  const span = times.length > 1 ? ((times.at(-1) ?? 0) - (times[0] ?? 0)) / (times.length - 1) : 60
  return marks
    .filter((m) => Math.abs(m.at / 1000 - t) <= Math.max(span, 8))
    .sort((a, b) => Math.abs(a.at / 1000 - t) - Math.abs(b.at / 1000 - t))[0]
}

/** A time of day; of a longer time with its day. */
export function timeOf(seconds: number, over = 0): string {
  const at = new Date(seconds * 1000)
  const time = at.toLocaleTimeString(undefined, {
    hour: '2-digit',
    minute: '2-digit',
    hour12: false,
    ...(over > 0 && over <= 600_000 ? { second: '2-digit' } : {}),
  })
  if (over > 2 * 86_400_000) return at.toLocaleDateString(undefined, { day: 'numeric', month: 'short' })
  return time
}
