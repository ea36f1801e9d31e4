import type { Group } from '../api/client'
import type { MetricSeries, Rule, RuleList, SizeChange } from '../api/rules'
import type { Band, Line, Mark, Series } from '../charts/data'
import { measuredAs } from './words'

/** What the rules of a group go by, each once. */
export function metricsOf(rules: Rule[]): { metric: string; aggregate: string }[] {
  const all = new Map<string, { metric: string; aggregate: string }>()
  for (const r of rules) {
    if (!r.settings.metric) continue
    const aggregate = r.settings.aggregate ?? 'average'
    all.set(`${r.settings.metric} ${aggregate}`, { metric: r.settings.metric, aggregate })
  }
  return [...all.values()]
}

/** Size, min and max as they were, up to now; and how many served. */
export function sizeSeries(
  g: Group,
  changes: SizeChange[],
  measured: MetricSeries | undefined,
  from: number,
  to: number,
): Series[] {
  const at = (c: SizeChange) => Math.max(from, Date.parse(c.at))
  const say = (v: number) => String(Math.round(v * 100) / 100)
  const of = (
    name: string,
    style: Series['style'],
    tone: Series['tone'],
    value: (c: SizeChange) => number,
    last: number,
  ): Series => ({
    name,
    unit: '',
    tone,
    style,
    say,
    points: [...changes.map((c) => ({ at: at(c), value: value(c) })), { at: to, value: last }],
  })
  const all = [
    of('size', 'steps', 0, (c) => c.size, g.size),
    of('min', 'dashed', 4, (c) => c.min, g.bounds.min),
    of('max', 'dashed', 4, (c) => c.max, g.bounds.max),
  ]
  if (measured) {
    const points = measured.points.map((p) => ({ at: Date.parse(p.at), value: p.serving }))
    all.push({
      name: 'serving',
      unit: '',
      tone: 3,
      style: 'thin',
      say,
      points,
      gap: measured.step_seconds * 2500,
    })
  }
  return all
}

/** A metric, and what was forecast of it. */
export function metricSeries(s: MetricSeries, k: number): Series[] {
  const unit = s.unit.trim() || s.metric
  const say = (v: number) => measuredAs(v, s.unit)
  const name = s.aggregate === 'average' ? s.metric : `${s.metric} ${s.aggregate}`
  const tone = ([1, 2, 3] as const)[k % 3] ?? 1
  const gap = s.step_seconds * 2500
  const line: Series = {
    name,
    unit,
    tone,
    style: 'line',
    say,
    gap,
    points: s.points.map((p) => ({ at: Date.parse(p.at), value: p.value ?? null })),
  }
  if (!s.points.some((p) => p.forecast !== undefined)) return [line]
  const forecast = s.points.map((p) => ({ at: Date.parse(p.at), value: p.forecast ?? null }))
  return [line, { ...line, name: `${name}, as forecast`, tone: 4, style: 'thin', points: forecast }]
}

/** The lines that rules go by, named. */
export function linesOf(rules: Rule[]): Line[] {
  return rules.flatMap((r) => {
    const s = r.settings
    if (!s.metric || r.off) return []
    const unit = unitOf(s.metric)
    const trips = (s.thresholds ?? []).map((l) => ({
      at: l.at,
      unit,
      name: `${r.name}: ${l.way} ${l.at}, ${l.step}`,
    }))
    return s.keep_at === undefined || s.aggregate === 'total'
      ? trips
      : [{ at: s.keep_at, unit, name: `${r.name}: keep at ${s.keep_at}` }, ...trips]
  })
}

const units: Record<string, string> = {
  cpu: '%',
  memory: '%',
  'network-in': 'B/s',
  'network-out': 'B/s',
  requests: '/s',
  latency: 'ms',
}

const unitOf = (metric: string) => units[metric] ?? metric

/** The times in which calendars last now or will. */
export function bandsOf(list: RuleList | undefined, to: number): Band[] {
  return (list?.items ?? []).flatMap((r) => {
    const span = (r.rule.settings.duration_seconds ?? 0) * 1000
    if (r.rule.kind !== 'calendar' || !r.lasts_until || span === 0) return []
    const until = Date.parse(r.lasts_until)
    return [{ from: until - span, until: Math.min(until, to), name: r.rule.name }]
  })
}

/** Every change of the size, with its cause. */
export function marksOf(changes: SizeChange[], from: number): Mark[] {
  return changes.flatMap((c, k) => {
    const before = changes[k - 1]
    if (!before || before.size === c.size || Date.parse(c.at) < from) return []
    return [
      {
        at: Date.parse(c.at),
        up: c.size > before.size,
        text: `Size ${before.size} → ${c.size}: ${c.because}`,
      },
    ]
  })
}
