import type { Rule, RuleKind, RuleSettings } from '../api/rules'

/** A threshold of a trip rule as a form has it. */
export interface ThresholdFields {
  way: 'above' | 'below'
  at: number | null
  minutes: number | null
  step: string
}

/** A rule as a form has it: spans in minutes, emptied numbers null. */
export interface RuleFieldsOf {
  name: string
  off: boolean
  metric: string
  aggregate: string
  cooldown: number | null
  keep_at: number | null
  band: number | null
  calm: number | null
  shrink_rate: number | null
  grow_only: boolean
  forecast: boolean
  thresholds: ThresholdFields[]
  when: string
  time_zone: string
  duration: number | null
  min: number | null
  max: number | null
  size: number | null
}

export const usualFields: RuleFieldsOf = {
  name: '',
  off: false,
  metric: 'cpu',
  aggregate: 'average',
  cooldown: null,
  keep_at: 60,
  band: 10,
  calm: 5,
  shrink_rate: 20,
  grow_only: false,
  forecast: false,
  thresholds: [
    { way: 'above', at: 75, minutes: 2, step: '+1' },
    { way: 'below', at: 30, minutes: 10, step: '-1' },
  ],
  when: '30 5 * * 1-5',
  time_zone: Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC',
  duration: 240,
  min: null,
  max: null,
  size: null,
}

const minutes = (seconds: number | undefined) => (seconds === undefined ? null : seconds / 60)
const seconds = (m: number | null) => Math.round((m ?? 0) * 60)

/** A setting that is left out where the field is empty. */
const given = <K extends keyof RuleSettings>(name: K, value: RuleSettings[K] | null): RuleSettings =>
  value === null ? {} : { [name]: value }

/** The fields of a rule that is there. */
export function fieldsOf(r: Rule): RuleFieldsOf {
  const s = r.settings
  return {
    ...usualFields,
    name: r.name,
    off: r.off,
    metric: s.metric ?? usualFields.metric,
    aggregate: s.aggregate ?? usualFields.aggregate,
    cooldown: minutes(s.cooldown_seconds),
    keep_at: s.keep_at ?? null,
    band: s.band_percent ?? null,
    calm: minutes(s.calm_seconds),
    shrink_rate: s.shrink_rate_percent ?? null,
    grow_only: s.grow_only ?? false,
    forecast: s.forecast ?? false,
    thresholds: (s.thresholds ?? []).map((l) => ({
      way: l.way,
      at: l.at,
      minutes: l.for_seconds / 60,
      step: l.step,
    })),
    when: s.when ?? '',
    time_zone: s.time_zone ?? 'UTC',
    duration: minutes(s.duration_seconds) || null,
    min: s.min ?? null,
    max: s.max ?? null,
    size: s.size ?? null,
  }
}

/** What of the fields counts for a kind. Emptied numbers are as usual; of a calendar they are left as they are. */
export function settingsOf(kind: RuleKind, f: RuleFieldsOf): RuleSettings {
  const all: Record<RuleKind, () => RuleSettings> = {
    steady: () => ({
      ...goesBy(f),
      ...given('keep_at', f.keep_at),
      ...given('band_percent', f.band),
      ...given('calm_seconds', f.calm === null ? null : seconds(f.calm)),
      ...given('shrink_rate_percent', f.shrink_rate),
      grow_only: f.grow_only,
      forecast: f.forecast,
    }),
    trip: () => ({
      ...goesBy(f),
      thresholds: f.thresholds.map((l) => ({
        way: l.way,
        at: l.at ?? 0,
        for_seconds: seconds(l.minutes),
        step: l.step.trim(),
      })),
    }),
    calendar: () => ({
      when: f.when.trim(),
      time_zone: f.time_zone.trim(),
      duration_seconds: seconds(f.duration),
      min: f.min ?? -1,
      max: f.max ?? -1,
      size: f.size ?? -1,
    }),
  }
  return { off: f.off, ...all[kind]() }
}

const goesBy = (f: RuleFieldsOf): RuleSettings => ({
  metric: f.metric.trim(),
  aggregate: f.aggregate.trim(),
  ...given('cooldown_seconds', f.cooldown === null ? null : seconds(f.cooldown)),
})
