import type { Rule, RuleKind, RuleSettings } from '../api/rules'

/** A line of a trip rule as a form has it. */
export interface LineFields {
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
  over: string
  cooldown: number | null
  target: number | null
  band: number | null
  calm: number | null
  pace: number | null
  grow_only: boolean
  foresee: boolean
  lines: LineFields[]
  when: string
  in: string
  span: number | null
  min: number | null
  max: number | null
  size: number | null
}

export const usualFields: RuleFieldsOf = {
  name: '',
  off: false,
  metric: 'cpu',
  over: 'average',
  cooldown: null,
  target: 60,
  band: 10,
  calm: 5,
  pace: 20,
  grow_only: false,
  foresee: false,
  lines: [
    { way: 'above', at: 75, minutes: 2, step: '+1' },
    { way: 'below', at: 30, minutes: 10, step: '-1' },
  ],
  when: '30 5 * * 1-5',
  in: Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC',
  span: 240,
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
    over: s.over ?? usualFields.over,
    cooldown: minutes(s.cooldown_seconds),
    target: s.target ?? null,
    band: s.band_percent ?? null,
    calm: minutes(s.calm_seconds),
    pace: s.pace_percent ?? null,
    grow_only: s.grow_only ?? false,
    foresee: s.foresee ?? false,
    lines: (s.lines ?? []).map((l) => ({ way: l.way, at: l.at, minutes: l.for_seconds / 60, step: l.step })),
    when: s.when ?? '',
    in: s.in ?? 'UTC',
    span: minutes(s.span_seconds) || null,
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
      ...given('target', f.target),
      ...given('band_percent', f.band),
      ...given('calm_seconds', f.calm === null ? null : seconds(f.calm)),
      ...given('pace_percent', f.pace),
      grow_only: f.grow_only,
      foresee: f.foresee,
    }),
    trip: () => ({
      ...goesBy(f),
      lines: f.lines.map((l) => ({
        way: l.way,
        at: l.at ?? 0,
        for_seconds: seconds(l.minutes),
        step: l.step.trim(),
      })),
    }),
    calendar: () => ({
      when: f.when.trim(),
      in: f.in.trim(),
      span_seconds: seconds(f.span),
      min: f.min ?? -1,
      max: f.max ?? -1,
      size: f.size ?? -1,
    }),
  }
  return { off: f.off, ...all[kind]() }
}

const goesBy = (f: RuleFieldsOf): RuleSettings => ({
  metric: f.metric.trim(),
  over: f.over.trim(),
  ...given('cooldown_seconds', f.cooldown === null ? null : seconds(f.cooldown)),
})
