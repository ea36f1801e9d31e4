import type { Group } from '../api/client'
import { count } from './words'

type Footing = Group['summary']['footing']

/** How a group stands, in a word with its mark; what is well is silent. */
export const stands: Record<Footing, { mark: string; word: string; tone: string }> = {
  out: { mark: '■', word: 'nothing serves', tone: 'trouble' },
  short: { mark: '▲', word: 'serves too little', tone: 'trouble' },
  moving: { mark: '…', word: 'something moves', tone: '' },
  whole: { mark: '', word: 'whole', tone: '' },
}

const order: Footing[] = ['out', 'short', 'moving', 'whole']

/** How much a group wants to be looked at: the lower, the more. */
export function rank(g: Group): number {
  const stand = order.indexOf(g.summary.footing)
  return g.summary.needs.length > 0 ? Math.min(stand, 1.5) : stand
}

/** Whether a group wants a person, or serves less than it should. */
export const wantsSomebody = (g: Group) => rank(g) < 2

/** The beginning of a tab's title: the state of a group before its name. */
export function titleOf(g: Group): string {
  const { mark } = stands[g.summary.footing]
  const sign = mark || (g.summary.needs.length > 0 ? '❚❚' : '')
  return `${sign ? sign + ' ' : ''}${g.summary.serving}/${g.size} ${g.name}`
}

/** The sentence over all groups, the worst first. */
export function headline(groups: Group[]): string {
  if (groups.length === 0) return 'No groups yet.'
  const size = groups.reduce((n, g) => n + g.size, 0)
  const serving = groups.reduce((n, g) => n + g.summary.serving, 0)
  const of = (f: Footing) => groups.filter((g) => g.summary.footing === f)
  const said: string[] = []
  const out = of('out')
  const short = of('short')
  const frozen = groups.filter((g) => g.frozen !== '')
  if (out.length > 0)
    said.push(
      `nothing of ${out.length <= 3 ? out.map((g) => g.name).join(', ') : count(out.length, 'group')} serves`,
    )
  if (short.length > 0)
    said.push(
      `${short.length <= 3 ? short.map((g) => g.name).join(', ') : count(short.length, 'group')} ${short.length === 1 ? 'serves' : 'serve'} too little`,
    )
  const asking = groups.filter((g) => g.summary.needs.length > 0 && g.frozen === '').length
  if (asking > 0) said.push(`${count(asking, 'group')} ${asking === 1 ? 'waits' : 'wait'} for a person`)
  if (frozen.length > 0) said.push(`${count(frozen.length, 'group')} frozen`)
  const whole =
    said.length === 0
      ? groups.length === 1
        ? 'The group is well'
        : `All ${groups.length} groups are well`
      : upper(said.join('; '))
  const moving = groups.filter((g) => g.rollout).length
  return `${whole}: ${serving} of ${size} instances serving${moving ? `, ${count(moving, 'rollout')} under way` : ''}.`
}

const upper = (text: string) => text.slice(0, 1).toUpperCase() + text.slice(1)

/** A band over the page of a group that does not serve as it should. */
export function FootingBand({ group: g }: { group: Group }) {
  const { footing, needs } = g.summary
  const { mark, word, tone } = stands[footing]
  if (tone === '' && needs.length === 0) return null
  return (
    <div className={`band ${tone || 'waiting'}`} role="status" data-testid="band">
      <strong>
        {tone ? `${mark} ${word}: ${g.summary.serving} of ${g.size} serving` : '❚❚ it waits for a person'}
      </strong>
      {needs.map((n) => (
        <div key={n}>{n}</div>
      ))}
    </div>
  )
}
