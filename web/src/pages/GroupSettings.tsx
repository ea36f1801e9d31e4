import { Button } from 'antd'
import { useState, type ReactNode } from 'react'
import { Link } from 'react-router'
import type { Group } from '../api/client'
import { later } from '../parts/later'
import { labelText, span, spreads } from '../parts/words'

const ChangeSetting = later(async () => (await import('../parts/ChangeSetting')).ChangeSetting)

/** The settings of a group, each changeable alone with a look at what it does. */
export function GroupSettings({ group: g }: { group: Group }) {
  const [changing, setChanging] = useState<string | null>(null)
  return (
    <>
      <dl className="facts settings">
        {settings.map((s) => (
          <div key={s.name} style={{ display: 'contents' }}>
            <dt>{s.title}</dt>
            <dd>
              {s.says(g)}{' '}
              {!g.deleting && (
                <Button
                  size="small"
                  type="link"
                  onClick={() => setChanging(s.name)}
                  aria-label={`Change ${s.title}`}
                >
                  Change…
                </Button>
              )}
            </dd>
          </div>
        ))}
      </dl>
      {changing && <ChangeSetting group={g} name={changing} onClose={() => setChanging(null)} />}
    </>
  )
}

/** The settings of a group, in the order of the page, and how each is said. */
const settings: { name: string; title: string; says: (g: Group) => ReactNode }[] = [
  {
    name: 'size',
    title: 'Size',
    says: (g) => `${g.size}, between ${g.min} and ${g.max}`,
  },
  {
    name: 'template',
    title: 'Template for new launches',
    says: (g) => <Link to={`/templates/${g.template.split('@')[0] ?? ''}`}>{g.template}</Link>,
  },
  {
    name: 'zones',
    title: 'Zones',
    says: (g) => `${g.zones.join(', ')}, filled ${spreads[g.spread]}`,
  },
  {
    name: 'above',
    title: 'Above',
    says: (g) => `${g.above} more than the size while one is replaced`,
  },
  {
    name: 'course',
    title: 'Usual course',
    says: (g) => g.course || 'none: rollouts go as usual',
  },
  {
    name: 'scrape',
    title: 'Own metrics',
    says: (g) => g.scrape || '/metrics at the port of its template',
  },
  {
    name: 'hooks',
    title: 'Hooks of one point',
    says: (g) => (g.hooks_at_once ? 'hold all at once' : 'hold one after another'),
  },
  {
    name: 'pools',
    title: 'Pools',
    says: (g) =>
      g.pools.length === 0
        ? 'none: it gets no traffic through Unitas'
        : g.pools.map((p) => (
            <Link key={p} to={`/pools/${p}`} style={{ marginRight: 8 }}>
              {p}
            </Link>
          )),
  },
  {
    name: 'heal',
    title: 'Heals by',
    says: (g) => healing(g.heal),
  },
  {
    name: 'heal-limit',
    title: 'Heal limit',
    says: (g) => `${g.heal_limit_percent} % of the size at once; past it healing stops and asks for a person`,
  },
  {
    name: 'shed',
    title: 'Sheds',
    says: (g) => `${g.shed} first, after balance between zones`,
  },
  {
    name: 'settle',
    title: 'Settle',
    says: (g) =>
      `${span(g.settle_seconds)} after boot to become healthy${g.usual_seconds ? `; its kind usually takes ${span(g.usual_seconds)}, and 95 of 100 are there within ${span(g.slow_seconds ?? g.usual_seconds)}` : ''}`,
  },
  {
    name: 'drain',
    title: 'Drain',
    says: (g) => `${span(g.drain_seconds)} at most to finish requests`,
  },
  {
    name: 'pin-new',
    title: 'Pins new ones',
    says: (g) => (g.pin_new ? 'yes' : 'no'),
  },
  {
    name: 'labels',
    title: 'Labels',
    says: (g) => labelText(g.labels) || 'none',
  },
]

function healing(heal: string): string {
  if (heal === 'off') return 'nothing: instances are never replaced for being ill'
  if (heal === 'machine') return 'machine: an instance is replaced when its machine is gone'
  if (heal === 'traffic')
    return 'traffic: an instance is replaced when its pools ejected it three times in a row, or its machine is gone'
  return `${heal}: an instance is replaced when this check finds it unhealthy, or its machine is gone`
}
