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

export function clock(at: string): string {
  return new Date(at).toLocaleTimeString(undefined, { hour12: false })
}

export function exact(at: string): string {
  return new Date(at).toLocaleString(undefined, { hour12: false, timeZoneName: 'short' })
}

export function versionNumber(version: string): number {
  return Number(version.split('@')[1] ?? 0)
}
