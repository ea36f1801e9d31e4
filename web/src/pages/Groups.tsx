import { Button, Skeleton } from 'antd'
import { Link, useNavigate } from 'react-router'
import type { Group } from '../api/client'
import { useGroups } from '../api/queries'
import { Bounds, ZoneBars } from '../parts/Bars'
import { Trouble } from '../parts/Trouble'

/** All groups at a glance. */
export function Groups() {
  const groups = useGroups()
  const navigate = useNavigate()
  return (
    <main className="page">
      <div className="row">
        <p className="sentence">{groups.data ? headline(groups.data) : ' '}</p>
        <span style={{ flex: 1 }} />
        <Button type="primary" onClick={() => void navigate('/new-group')}>
          Make one…
        </Button>
      </div>
      <Trouble error={groups.error} />
      {groups.isPending && <Skeleton active paragraph={{ rows: 6 }} />}
      {groups.data?.length === 0 && <NoGroups />}
      {groups.data?.map((g) => (
        <GroupRow key={g.name} group={g} />
      ))}
    </main>
  )
}

function headline(groups: Group[]): string {
  const size = groups.reduce((n, g) => n + g.size, 0)
  const serving = groups.reduce((n, g) => n + g.summary.serving, 0)
  const moving = groups.filter((g) => g.rollout).length
  const whole = groups.filter((g) => g.summary.serving >= g.size && g.summary.unwell === 0).length
  if (groups.length === 0) return 'No groups yet.'
  return `${whole} of ${groups.length} ${groups.length === 1 ? 'group is' : 'groups are'} whole: ${serving} of ${size} instances serving${moving ? `, ${moving} in a rollout` : ''}.`
}

function NoGroups() {
  return (
    <p className="quiet">
      Here every group has a row with its instances by zone. Make the first one here, or with{' '}
      <code>unitas group create --interactive</code>.
    </p>
  )
}

function GroupRow({ group }: { group: Group }) {
  const { serving } = group.summary
  return (
    <section className="group-row" aria-label={group.name}>
      <div>
        <h1>
          <Link to={`/groups/${group.name}`}>{group.name}</Link>
        </h1>
        <div className="quiet">{group.template}</div>
      </div>
      <div>
        <div style={{ marginBottom: 10 }}>{group.summary.sentence}</div>
        <ZoneBars group={group} mix />
      </div>
      <div className="right">
        <div className={serving < group.size ? 'figure waiting' : 'figure'}>
          {serving} of {group.size}
        </div>
        <div className="quiet">serving</div>
        <div className="quiet">
          between {group.min} and {group.max}
        </div>
        <Bounds group={group} />
      </div>
    </section>
  )
}
