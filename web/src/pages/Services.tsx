import { Link } from 'react-router'
import type { Replica } from '../api/client'
import { useReplicas, useService } from '../api/keeping'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Places } from '../parts/Places'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { useNow } from '../parts/now'
import { count, secondsBetween, span } from '../parts/words'
import { Table } from '../parts/Table'
import { Unsettled } from './Unsettled'

/** The services on this database: which are alive, and which groups each keeps. */
export function Services() {
  useTitle('Services')
  const replicas = useReplicas()
  const now = useNow()
  const all = replicas.data
  return (
    <Page>
      <h1 className="sentence">{all ? sentence(all, now) : ' '}</h1>
      <Trouble error={replicas.error} />
      {!all && !replicas.error && <Loading />}
      {all && (
        <Table<Replica>
          size="small"
          rowKey="id"
          dataSource={all}
          pagination={false}
          columns={[
            {
              title: 'Service',
              render: (_, r) => (
                <>
                  {r.name}
                  {r.self && <span className="quiet"> this one</span>}
                </>
              ),
            },
            { title: 'State', render: (_, r) => <Alive replica={r} now={now} /> },
            { title: 'Address', render: (_, r) => r.address.replace(/^http:\/\//, '') },
            { title: 'Version', dataIndex: 'version' },
            {
              title: 'Up for',
              align: 'right',
              render: (_, r) => (r.alive ? span(secondsBetween(r.started_at, now)) : ''),
            },
            { title: 'Groups', align: 'right', dataIndex: 'groups' },
            { title: 'Keeps', render: (_, r) => <Keeps replica={r} /> },
          ]}
        />
      )}
      <Unsettled />
      <h2>What it rests on</h2>
      <Parts />
      <h2>Places</h2>
      <Places />
    </Page>
  )
}

const parts: Record<string, string> = {
  database: 'Database',
  disk: 'Disk',
  machines: 'Machines',
  listeners: 'Listeners',
  groups: 'Groups',
}

/** What the service rests on, and how each is now. */
function Parts() {
  const service = useService()
  return (
    <>
      <Trouble error={service.error} />
      <dl className="facts">
        {service.data?.parts.map((p) => (
          <div key={p.part} style={{ display: 'contents' }}>
            <dt>{parts[p.part]}</dt>
            <dd className={p.well ? '' : 'trouble'}>
              {p.well ? '' : '▲ '}
              {p.says}
            </dd>
          </div>
        ))}
      </dl>
    </>
  )
}

function sentence(all: Replica[], now: number): string {
  const alive = all.filter((r) => r.alive)
  const lost = all.filter((r) => !r.alive)
  const groups = alive.reduce((n, r) => n + r.groups, 0)
  const keep =
    alive.length === 1
      ? `One service keeps ${count(groups, 'group')}; when it is down, traffic through its listeners waits for it.`
      : `${alive.length} services share ${count(groups, 'group')}.`
  const gone = lost.map((r) => `${r.name} was last heard of ${span(secondsBetween(r.until_at, now))} ago`)
  return [keep, ...gone.map((g) => `▲ ${g}.`)].join(' ')
}

function Alive({ replica, now }: { replica: Replica; now: number }) {
  if (replica.alive && replica.stopping) return <span className="waiting">◔ stopping; its requests end</span>
  if (replica.alive) return <span>● alive</span>
  return <span className="trouble">▲ last heard of {span(secondsBetween(replica.until_at, now))} ago</span>
}

function Keeps({ replica }: { replica: Replica }) {
  const more = replica.groups - replica.group_names.length
  return (
    <>
      {replica.group_names.map((name, i) => (
        <span key={name}>
          {i > 0 && ', '}
          <Link to={`/groups/${name}`}>{name}</Link>
        </span>
      ))}
      {more > 0 && ` and ${more} more`}
    </>
  )
}
