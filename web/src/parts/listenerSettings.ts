import type { HeaderMatch, Listener, ListenerChange, NewListener, Route } from '../api/listeners'
import type { Pair } from './PairRows'
import { size, span } from './words'

/** A route as a form has it. */
export interface RouteFields {
  hosts?: string[]
  path?: string
  headers?: Pair[]
  pool: string
  split?: string
  percent?: number | null
  splitName?: string
  splitValue?: string
}

/** A listener as a form has it. */
export interface ListenerFields {
  address: string
  protocol: Listener['protocol']
  pool?: string
  certificates: string[]
  minTls: NonNullable<ListenerChange['min_tls']>
  http2: boolean
  redirect: number | null
  proxyProtocol: boolean
  regionOrder: Listener['region_order']['how']
  regions: string[]
  enough: number
  upgrades: string[]
  keep: Listener['access_log']['keep']
  percent: number | null
  head: number
  idle: number
  write: number
  tunnelIdle: number
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
  const split = f.split
    ? {
        pool: f.split,
        ...(f.percent ? { percent: f.percent } : {}),
        ...(f.splitName ? { header: headerOf([f.splitName, f.splitValue ?? '']) } : {}),
      }
    : undefined
  return {
    pool: f.pool,
    ...(f.hosts?.length ? { hosts: f.hosts } : {}),
    ...(f.path ? { path: f.path } : {}),
    ...(headersOf(f.headers).length ? { headers: headersOf(f.headers) } : {}),
    ...(split ? { split } : {}),
  }
}

export function fieldsOfRoute(r: Route): RouteFields {
  return {
    pool: r.pool,
    hosts: r.hosts ?? [],
    path: r.path ?? '',
    headers: (r.headers ?? []).map((h): Pair => [h.name, h.value ?? '']),
    ...(r.split ? { split: r.split.pool, percent: r.split.percent ?? null } : {}),
    ...(r.split?.header ? { splitName: r.split.header.name, splitValue: r.split.header.value ?? '' } : {}),
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

/** What of a route is split off, in words. */
export function splitOf(r: Route): string {
  if (!r.split) return ''
  const part = [
    ...(r.split.percent ? [`${r.split.percent} %`] : []),
    ...(r.split.header ? [`those with ${headerText(r.split.header)}`] : []),
  ]
  return `${part.join(' and ')} to ${r.split.pool}`
}

export const usualFields: ListenerFields = {
  address: '',
  protocol: 'http',
  certificates: [],
  minTls: '1.2',
  http2: false,
  redirect: null,
  proxyProtocol: false,
  regionOrder: 'alike',
  regions: [],
  enough: 50,
  upgrades: ['websocket'],
  keep: 'failures',
  percent: null,
  head: 30,
  idle: 120,
  write: 0,
  tunnelIdle: 3600,
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
    protocol: l.protocol,
    pool: l.pool,
    certificates: l.certificates,
    minTls: l.min_tls === '1.3' ? '1.3' : '1.2',
    http2: l.http2,
    redirect: l.redirect || null,
    proxyProtocol: l.proxy_protocol,
    regionOrder: l.region_order.how,
    regions: l.region_order.regions ?? [],
    enough: l.region_order.enough_percent ?? 50,
    upgrades: l.protocol === 'tcp' ? ['websocket'] : l.upgrades,
    keep: l.access_log.keep,
    percent: l.access_log.percent ?? null,
    head: v.header_seconds ?? 0,
    idle: v.idle_seconds ?? 0,
    write: v.write_seconds ?? 0,
    tunnelIdle: v.tunnel_idle_seconds ?? 0,
    request: v.request_seconds ?? 0,
    headBytes: v.header_bytes ?? 0,
    bodyBytes: v.body_bytes ?? 0,
    connections: v.connections ?? 0,
    connectionRate: v.connections_per_second ?? 0,
    requestRate: v.requests_per_second ?? 0,
  }
}

/** What a form says, with what is of no matter for its protocol left out. */
export function changeOf(f: ListenerFields): ListenerChange {
  const tcp = f.protocol === 'tcp'
  return {
    protocol: f.protocol,
    pool: f.pool ?? '',
    certificates: f.protocol === 'https' ? f.certificates : [],
    min_tls: f.minTls,
    http2: !tcp && f.http2,
    redirect: f.protocol === 'http' ? (f.redirect ?? 0) : 0,
    proxy_protocol: tcp && f.proxyProtocol,
    region_order: {
      how: f.regionOrder,
      ...(f.regionOrder === 'in-order' ? { regions: f.regions } : {}),
      ...(f.regionOrder === 'alike' ? {} : { enough_percent: f.enough }),
    },
    limits: {
      header_seconds: f.head,
      idle_seconds: f.idle,
      write_seconds: tcp ? 0 : f.write,
      tunnel_idle_seconds: f.tunnelIdle,
      request_seconds: tcp ? 0 : f.request,
      header_bytes: f.headBytes,
      body_bytes: tcp ? 0 : f.bodyBytes,
      connections: f.connections,
      connections_per_second: f.connectionRate,
      requests_per_second: tcp ? 0 : f.requestRate,
    },
    ...(tcp ? {} : { upgrades: f.upgrades.length ? f.upgrades : ['none'] }),
    access_log: { keep: f.keep, ...(f.keep === 'sampled' && f.percent ? { percent: f.percent } : {}) },
    ...(f.reason ? { reason: f.reason } : {}),
  }
}

export function newListenerOf(f: ListenerFields): NewListener {
  return {
    ...changeOf({ ...f, reason: '' }),
    address: f.address.trim(),
    protocol: f.protocol,
    min_tls: f.minTls,
  }
}

/** The limits that there are, in words. */
export function limitWords(l: Listener): string {
  const v = l.limits
  const all = [
    v.header_seconds && `head ${span(v.header_seconds)}`,
    v.idle_seconds && `idle ${span(v.idle_seconds)}`,
    v.write_seconds && `write ${span(v.write_seconds)}`,
    v.tunnel_idle_seconds && `tunnel idle ${span(v.tunnel_idle_seconds)}`,
    v.request_seconds && `request ${span(v.request_seconds)}`,
    v.header_bytes && `head ${size(v.header_bytes)}`,
    v.body_bytes && `body ${size(v.body_bytes)}`,
    v.connections && `${v.connections} connections of one address`,
    v.connections_per_second && `${v.connections_per_second} new ones a second`,
    v.requests_per_second && `${v.requests_per_second} requests a second of one address`,
  ]
  return all.filter(Boolean).join(', ') || 'none'
}

export function regionOrderWords(l: Listener): string {
  if (l.region_order.how === 'alike') return 'no region: all alike'
  const how =
    l.region_order.how === 'measured' ? 'the one to which connections are made fastest' : 'the nearest first'
  const order = l.reached.map((r) => r.region + (r.took_ms ? ` (${r.took_ms.toFixed(1)} ms)` : '')).join(', ')
  return `${how}${order ? `: ${order}` : ''}; the next shares under ${l.region_order.enough_percent} % healthy`
}

export function accessLogWords(l: Listener): string {
  if (l.access_log.keep === 'sampled') return `${l.access_log.percent} % of requests, and all failures`
  if (l.access_log.keep === 'all') return 'all requests'
  return l.access_log.keep === 'none' ? 'nothing' : 'failures'
}
