import type { Group } from '../api/client'

type Condition = Group['summary']['condition']

/** How a group stands, in a word with its mark; what is well is silent. */
export const stands: Record<Condition, { mark: string; word: string; tone: string }> = {
  down: { mark: '■', word: 'nothing serves', tone: 'trouble' },
  short: { mark: '▲', word: 'serves too little', tone: 'trouble' },
  changing: { mark: '…', word: 'something changes', tone: '' },
  complete: { mark: '', word: 'complete', tone: '' },
}

const order: Condition[] = ['down', 'short', 'changing', 'complete']

/** How much a group wants to be looked at: the lower, the more. */
export function rank(g: Group): number {
  const stand = order.indexOf(g.summary.condition)
  return g.summary.needs.length > 0 ? Math.min(stand, 1.5) : stand
}

/** Whether a group wants a person, or serves less than it should. */
export const wantsSomebody = (g: Group) => rank(g) < 2

/** The beginning of a tab's title: the state of a group before its name. */
export function titleOf(g: Group): string {
  const { mark } = stands[g.summary.condition]
  const sign = mark || (g.summary.needs.length > 0 ? '❚❚' : '')
  return `${sign ? sign + ' ' : ''}${g.summary.serving}/${g.size} ${g.name}`
}

/** A band over the page of a group that does not serve as it should. */
export function ConditionBand({ group: g }: { group: Group }) {
  const { condition, needs } = g.summary
  const { mark, word, tone } = stands[condition]
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
