import type { Check, Group } from '../api/client'

/** Writes a duration as the service's sentences do. */
export function span(seconds: number): string {
  if (seconds < 0) return '0 s'
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 10) return `${Math.round(seconds * 10) / 10} s`
  const s = Math.floor(seconds)
  if (s < 60) return `${s} s`
  if (s < 3600) return pair(Math.floor(s / 60), 'm', s % 60, 's')
  if (s < 48 * 3600) return pair(Math.floor(s / 3600), 'h', Math.floor((s % 3600) / 60), 'm')
  return pair(Math.floor(s / 86400), 'd', Math.floor((s % 86400) / 3600), 'h')
}

function pair(large: number, unit: string, small: number, smallUnit: string): string {
  return small === 0 ? `${large} ${unit}` : `${large} ${unit} ${small} ${smallUnit}`
}

export function secondsBetween(from: string, to: string | number): number {
  return ((typeof to === 'number' ? to : Date.parse(to)) - Date.parse(from)) / 1000
}

/** How long there is until a time, 0 s when it is past. */
export function leftOf(until: string, now: number): string {
  return span(Math.max(-secondsBetween(until, now), 0))
}

// A format is costly to make, and tables ask for hundreds of times.
const clockFormat = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium', hour12: false })
const exactFormat = new Intl.DateTimeFormat(undefined, {
  year: 'numeric',
  month: 'numeric',
  day: 'numeric',
  hour: 'numeric',
  minute: '2-digit',
  second: '2-digit',
  hour12: false,
  timeZoneName: 'short',
})

export function clock(at: string): string {
  return clockFormat.format(new Date(at))
}

export function exact(at: string): string {
  return exactFormat.format(new Date(at))
}

/** The moments of a sentence of the service, which are in UTC, as all others of the page are told. */
export const here = (text: string) =>
  text.replace(/\b\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}Z/g, (at) => exact(at))

export function versionNumber(version: string): number {
  return Number(version.split('@')[1] ?? 0)
}

/** Writes bytes with a binary unit. */
export function size(bytes: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let unit = 0
  let n = bytes
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024
    unit++
  }
  return unit === 0 ? `${bytes} B` : `${n.toFixed(1).replace(/\.0$/, '')} ${units[unit]}`
}

/** Counts with its noun: 1 group, 2 groups. */
export function count(n: number, noun: string): string {
  return n === 1 ? `1 ${noun}` : `${n} ${noun}s`
}

/** Joins with commas and a last and. */
export function list(words: string[]): string {
  if (words.length < 2) return words.join('')
  return `${words.slice(0, -1).join(', ')} and ${words[words.length - 1]}`
}

/** A measured value to three places with its unit; bytes with a binary one. */
export function measuredAs(v: number, unit: string): string {
  if (unit.trim() === 'B/s') return `${size(v)}/s`
  const text = Math.abs(v) >= 100 ? v.toFixed(0) : String(Number(v.toPrecision(3)))
  return text + unit
}

/** Labels as they are written elsewhere too: service=timetable, env=trial. */
export function labelText(labels: Record<string, string>): string {
  return Object.entries(labels)
    .map(([k, v]) => `${k}=${v}`)
    .join(', ')
}

/** How zones are filled, in words. */
export const spreads: Record<Group['spread'], string> = {
  even: 'evenly',
  'in-order': 'in order: the first that takes machines',
  cheapest: 'by price: the cheapest, and evenly among equal ones',
}

/** What a check asks, in words. */
export function question(c: Check): string {
  if (c.kind === 'http' || c.kind === 'https')
    return `${c.kind} port ${c.port} for ${c.path}, good are ${c.statuses}${c.text ? ` with “${c.text}”` : ''}`
  return `${c.kind} port ${c.port}${c.service ? ` after ${c.service}` : ''}`
}
