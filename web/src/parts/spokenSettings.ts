import type { PoolChange } from '../api/keeping'
import type { Pool } from '../api/client'
import { size, span } from './words'

/** How the targets of a pool are spoken to, as a form has it. */
export interface SpokenFields {
  protocol: Pool['protocol']
  trust: string
  serverName: string
  affinityBy: Pool['affinity']['by']
  affinityHeader: string
  affinityFor: number
  failures: number
  points: number
  slower: number
  least: number
  first: number
  most: number
  connect: number
  firstByte: number
  idle: number
  request: number
  bodyBytes: number
}

export function fieldsOfSpoken(p: Pool): SpokenFields {
  const { eject: e, limits: v } = p
  return {
    protocol: p.protocol,
    trust: p.trust || 'host',
    serverName: p.server_name,
    affinityBy: p.affinity.by,
    affinityHeader: p.affinity.header ?? '',
    affinityFor: p.affinity.for_seconds ?? 0,
    failures: e.failures ?? 0,
    points: e.margin_percent ?? 0,
    slower: e.slower ?? 0,
    least: e.min_requests ?? 50,
    first: e.for_seconds ?? 10,
    most: e.max_seconds ?? 300,
    connect: v.connect_seconds ?? 0,
    firstByte: v.first_byte_seconds ?? 0,
    idle: v.idle_seconds ?? 0,
    request: v.request_seconds ?? 0,
    bodyBytes: v.body_bytes ?? 0,
  }
}

export function spokenChange(f: SpokenFields): PoolChange {
  return {
    protocol: f.protocol,
    ...(f.protocol === 'https' ? { trust: f.trust, server_name: f.serverName } : {}),
    affinity: {
      by: f.affinityBy,
      ...(f.affinityBy === 'header' ? { header: f.affinityHeader } : {}),
      ...(f.affinityBy === 'cookie' ? { for_seconds: f.affinityFor } : {}),
    },
    eject: {
      failures: f.failures,
      margin_percent: f.points,
      slower: f.slower,
      min_requests: f.least,
      for_seconds: f.first,
      max_seconds: f.most,
    },
    limits: {
      connect_seconds: f.connect,
      first_byte_seconds: f.firstByte,
      idle_seconds: f.idle,
      request_seconds: f.request,
      body_bytes: f.bodyBytes,
    },
  }
}

export function protocolWords(p: Pool): string {
  if (p.protocol === 'http') return 'http: HTTP/1.1 in clear'
  if (p.protocol === 'http2') return 'http2: HTTP/2 in clear'
  const by =
    p.trust === 'anyone'
      ? 'whatever certificate they show'
      : p.trust === '' || p.trust === 'host'
        ? 'trusted by the authorities of the host'
        : `trusted by the certificate ${p.trust}`
  return `https, ${by}${p.server_name ? `, named ${p.server_name}` : ''}`
}

export function affinityWords(p: Pool): string {
  const s = p.affinity
  if (s.by === 'cookie') return `by a cookie${s.for_seconds ? `, for ${span(s.for_seconds)}` : ''}`
  if (s.by === 'header') return `by the header ${s.header}`
  return s.by === 'address' ? 'by their address' : 'none: each request goes by turn'
}

export function ejectWords(p: Pool): string {
  const e = p.eject
  const all = [
    e.failures && `after ${e.failures} failures in a row`,
    e.margin_percent && `with ${e.margin_percent} points more failures than the others`,
    e.slower && `${e.slower} times as slow as the others`,
  ].filter(Boolean)
  if (all.length === 0) return 'only what refuses'
  return `${all.join(', or ')} (of ${e.min_requests} requests); first for ${span(e.for_seconds ?? 0)}, at most ${span(e.max_seconds ?? 0)}`
}

export function poolLimitWords(p: Pool): string {
  const v = p.limits
  const all = [
    v.connect_seconds && `connect ${span(v.connect_seconds)}`,
    v.first_byte_seconds && `first byte ${span(v.first_byte_seconds)}`,
    v.idle_seconds && `idle ${span(v.idle_seconds)}`,
    v.request_seconds && `request ${span(v.request_seconds)}`,
    v.body_bytes && `body ${size(v.body_bytes)}`,
  ].filter(Boolean)
  return all.join(', ') || 'connect 2 s'
}
