import type { Instance } from '../api/client'

/** What tells slips apart that are drawn alike. */
export type Shape = 'serving' | 'rising' | 'leaving' | 'lost' | 'parked'

/** How a slip looks besides its version: the same, however it is painted. */
export interface Look {
  shape: Shape
  verdict: Instance['verdict'] | 'none'
  /** A hook holds it. */
  held?: boolean
  /** Nothing removes it. */
  pinned?: boolean
  /** A fault is made of it on purpose. */
  drilled?: boolean
}

function shapeOf(i: Instance): Shape {
  if (i.state === 'lost') return 'lost'
  if (i.state === 'draining' || i.state === 'leaving') return 'leaving'
  if (i.state === 'held' && i.tickets.some((t) => t.at === 'retire')) return 'leaving'
  if (i.state === 'parked' || i.state === 'resting') return 'parked'
  return i.state === 'serving' || i.overdue ? 'serving' : 'rising'
}

export function lookOf(i: Instance, drilled = false): Look {
  const shape = shapeOf(i)
  const judged = shape === 'serving' || (shape === 'rising' && i.state !== 'held')
  return {
    shape,
    verdict: i.overdue ? 'unhealthy' : judged ? i.verdict : 'none',
    held: i.state === 'held',
    pinned: i.pinned,
    drilled,
  }
}

/** Nothing of it is filled: it takes no requests any more, or none for a while. */
export const isHollow = (l: Look) => l.shape === 'leaving' || l.shape === 'lost' || l.shape === 'parked'

/** It comes up: half filled, with a broken edge. */
export const isFaint = (l: Look) => l.shape === 'rising'

export const isUnwell = (l: Look) => l.verdict === 'unhealthy'

/** What its edge is drawn with. */
export function edgeOf(l: Look): 'trouble' | 'tone' | 'quiet' {
  if (isUnwell(l) || l.shape === 'lost') return 'trouble'
  return l.shape === 'serving' ? 'tone' : 'quiet'
}

/** A mark for pictures of slips that look the same. */
export const keyOf = (l: Look) =>
  `${l.shape}/${l.verdict}/${l.held ? 'h' : ''}${l.pinned ? 'p' : ''}${l.drilled ? 'd' : ''}`
