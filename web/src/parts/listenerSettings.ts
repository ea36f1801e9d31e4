import type { HeaderMatch, Listener, ListenerChange, NewListener, Route } from '../api/listeners'
import type { Pair } from './PairRows'
import { size, span } from './words'

/** A route as a form has it. */
export interface RouteFields {
  hosts?: string[]
  path?: string
  headers?: Pair[]
  pool: string
  divert?: string
  percent?: number | null
  divertName?: string
  divertValue?: string
}

/** A listener as a form has it. */
export interface ListenerFields {
  address: string
  kind: Listener['kind']
  pool?: string
  certificates: string[]
  leastTls: NonNullable<ListenerChange['least_tls']>
  http2: boolean
  redirect: number | null
  tell: boolean
  near: Listener['near']['how']
  regions: string[]
  enough: number
  upgrades: string[]
  keep: Listener['log']['keep']
  percent: number | null
  head: number
  idle: number
  write: number
  quiet: number
  request: number
  headBytes: number
  bodyBytes: number
  connections: number
  connectionRate: number
  requestRate: number
  reason?: string
}

/** A header as the contract has it; without a value any is meant. */
export const headerOf = ([name, value]: Pair): HeaderMatch => ({
  name: name.trim(),
  ...(value.trim() ? { value: value.trim() } : {}),
})

/** Headers as the contract has them; rows in which nothing stands are none. */
export const headersOf = (rows: Pair[] | undefined): HeaderMatch[] =>
  (rows ?? []).filter(([n, v]) => n.trim() !== '' || v.trim() !== '').map(headerOf)

export function headerText(h: HeaderMatch): string {
  return h.value === undefined ? h.name : `${h.name}:${h.value}`
}

export function routeOf(f: RouteFields): Route {
  const divert = f.divert
    ? {
        pool: f.divert,
        ...(f.percent ? { percent: f.percent } : {}),
        ...(f.divertName ? { header: headerOf([f.divertName, f.divertValue ?? '']) } : {}),
      }
    : undefined
  return {
    pool: f.pool,
    ...(f.hosts?.length ? { hosts: f.hosts } : {}),
    ...(f.path ? { path: f.path } : {}),
    ...(headersOf(f.headers).length ? { headers: headersOf(f.headers) } : {}),
    ...(divert ? { divert } : {}),
  }
}

export function fieldsOfRoute(r: Route): RouteFields {
  return {
    pool: r.pool,
    hosts: r.hosts ?? [],
    path: r.path ?? '',
    headers: (r.headers ?? []).map((h): Pair => [h.name, h.value ?? '']),
    ...(r.divert ? { divert: r.divert.pool, percent: r.divert.percent ?? null } : {}),
    ...(r.divert?.header
      ? { divertName: r.divert.header.name, divertValue: r.divert.header.value ?? '' }
      : {}),
  }
}

/** What a route takes, in words. */
export function takes(r: Route): string {
  const all = [
    ...(r.hosts ?? []).map((h) => `host ${h}`),
    ...(r.path ? [`path ${r.path}`] : []),
    ...(r.headers ?? []).map((h) => `header ${headerText(h)}`),
  ]
  return all.join(', ') || 'anything'
}

/** What of a route is diverted, in words. */
export function divertOf(r: Route): string {
  if (!r.divert) return ''
  const part = [
    ...(r.divert.percent ? [`${r.divert.percent} %`] : []),
    ...(r.divert.header ? [`those with ${headerText(r.divert.header)}`] : []),
  ]
  return `${part.join(' and ')} to ${r.divert.pool}`
}

export const usualFields: ListenerFields = {
  address: '',
  kind: 'http',
  certificates: [],
  leastTls: '1.2',
  http2: false,
  redirect: null,
  tell: false,
  near: 'alike',
  regions: [],
  enough: 50,
  upgrades: ['websocket'],
  keep: 'failures',
  percent: null,
  head: 30,
  idle: 120,
  write: 0,
  quiet: 3600,
  request: 0,
  headBytes: 65536,
  bodyBytes: 0,
  connections: 0,
  connectionRate: 0,
  requestRate: 0,
}

export function fieldsOfListener(l: Listener): ListenerFields {
  const v = l.limits
  return {
    address: l.address,
    kind: l.kind,
    pool: l.pool,
    certificates: l.certificates,
    leastTls: l.least_tls === '1.3' ? '1.3' : '1.2',
    http2: l.http2,
    redirect: l.redirect || null,
    tell: l.tell,
    near: l.near.how,
    regions: l.near.regions ?? [],
    enough: l.near.enough_percent ?? 50,
    upgrades: l.kind === 'tcp' ? ['websocket'] : l.upgrades,
    keep: l.log.keep,
    percent: l.log.percent ?? null,
    head: v.head_seconds ?? 0,
    idle: v.idle_seconds ?? 0,
    write: v.write_seconds ?? 0,
    quiet: v.quiet_seconds ?? 0,
    request: v.request_seconds ?? 0,
    headBytes: v.head_bytes ?? 0,
    bodyBytes: v.body_bytes ?? 0,
    connections: v.connections ?? 0,
    connectionRate: v.connections_per_second ?? 0,
    requestRate: v.requests_per_second ?? 0,
  }
}

/** What a form says, with what is of no matter for its kind left out. */
export function changeOf(f: ListenerFields): ListenerChange {
  const tcp = f.kind === 'tcp'
  return {
    kind: f.kind,
    pool: f.pool ?? '',
    certificates: f.kind === 'https' ? f.certificates : [],
    least_tls: f.leastTls,
    http2: !tcp && f.http2,
    redirect: f.kind === 'http' ? (f.redirect ?? 0) : 0,
    tell: tcp && f.tell,
    near: {
      how: f.near,
      ...(f.near === 'in-order' ? { regions: f.regions } : {}),
      ...(f.near === 'alike' ? {} : { enough_percent: f.enough }),
    },
    limits: {
      head_seconds: f.head,
      idle_seconds: f.idle,
      write_seconds: tcp ? 0 : f.write,
      quiet_seconds: f.quiet,
      request_seconds: tcp ? 0 : f.request,
      head_bytes: f.headBytes,
      body_bytes: tcp ? 0 : f.bodyBytes,
      connections: f.connections,
      connections_per_second: f.connectionRate,
      requests_per_second: tcp ? 0 : f.requestRate,
    },
    ...(tcp ? {} : { upgrades: f.upgrades.length ? f.upgrades : ['none'] }),
    log: { keep: f.keep, ...(f.keep === 'share' && f.percent ? { percent: f.percent } : {}) },
    ...(f.reason ? { reason: f.reason } : {}),
  }
}

export function newListenerOf(f: ListenerFields): NewListener {
  return { ...changeOf({ ...f, reason: '' }), address: f.address.trim(), kind: f.kind, least_tls: f.leastTls }
}

/** The limits that there are, in words. */
export function limitWords(l: Listener): string {
  const v = l.limits
  const all = [
    v.head_seconds && `head ${span(v.head_seconds)}`,
    v.idle_seconds && `idle ${span(v.idle_seconds)}`,
    v.write_seconds && `write ${span(v.write_seconds)}`,
    v.quiet_seconds && `quiet ${span(v.quiet_seconds)}`,
    v.request_seconds && `request ${span(v.request_seconds)}`,
    v.head_bytes && `head ${size(v.head_bytes)}`,
    v.body_bytes && `body ${size(v.body_bytes)}`,
    v.connections && `${v.connections} connections of one address`,
    v.connections_per_second && `${v.connections_per_second} new ones a second`,
    v.requests_per_second && `${v.requests_per_second} requests a second of one address`,
  ]
  return all.filter(Boolean).join(', ') || 'none'
}

export function nearWords(l: Listener): string {
  if (l.near.how === 'alike') return 'no region: all alike'
  const how =
    l.near.how === 'measured' ? 'the one to which connections are made fastest' : 'the nearest first'
  const order = l.reached.map((r) => r.region + (r.took_ms ? ` (${r.took_ms.toFixed(1)} ms)` : '')).join(', ')
  return `${how}${order ? `: ${order}` : ''}; the next shares under ${l.near.enough_percent} % healthy`
}

export function logWords(l: Listener): string {
  if (l.log.keep === 'share') return `${l.log.percent} % of requests, and all failures`
  if (l.log.keep === 'all') return 'all requests'
  return l.log.keep === 'none' ? 'nothing' : 'failures'
}
