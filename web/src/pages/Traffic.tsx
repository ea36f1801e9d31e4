import { Skeleton, Table } from 'antd'
import type { Pool } from '../api/client'
import { usePool } from '../api/queries'
import { Trouble } from '../parts/Trouble'

export function Traffic({ pools }: { pools: string[] }) {
  if (pools.length === 0)
    return <p className="quiet">The group names no pool, so nothing sends it requests through Unitas.</p>
  return pools.map((name) => <PoolView key={name} name={name} />)
}

type Target = Pool['targets'][number]

function PoolView({ name }: { name: string }) {
  const pool = usePool(name)
  const p = pool.data
  if (!p) return pool.error ? <Trouble error={pool.error} /> : <Skeleton active paragraph={{ rows: 3 }} />
  const open = p.targets.filter((t) => t.open).length
  return (
    <>
      <p>
        {p.name} listens on <code>{p.listen}</code>
        {p.listening !== 'yes' && <span className="trouble"> ▲ not open: {p.listening}</span>} and sends to{' '}
        {open} of {p.targets.length} targets that {p.check} finds healthy. {p.requests.toLocaleString()}{' '}
        requests since the service started, {p.failures.toLocaleString()} failed.
      </p>
      <Table<Target>
        size="small"
        rowKey="instance"
        pagination={p.targets.length > 50 ? { pageSize: 50 } : false}
        dataSource={p.targets}
        locale={{ emptyText: 'No targets: instances appear here when they are healthy.' }}
        columns={[
          { title: 'Target', dataIndex: 'instance' },
          { title: 'Version', dataIndex: 'version' },
          {
            title: 'Traffic',
            render: (_, t) => (t.open ? 'open' : <span className="waiting">closed, draining</span>),
          },
          { title: 'In flight', dataIndex: 'in_flight', align: 'right' },
          { title: 'Requests', align: 'right', render: (_, t) => t.requests.toLocaleString() },
          {
            title: 'Failures',
            align: 'right',
            render: (_, t) => (
              <span className={t.failures > 0 ? 'trouble' : ''}>{t.failures.toLocaleString()}</span>
            ),
          },
          { title: 'Median', align: 'right', render: (_, t) => `${t.median_ms.toFixed(1)} ms` },
          { title: '99 %', align: 'right', render: (_, t) => `${t.p99_ms.toFixed(1)} ms` },
        ]}
      />
    </>
  )
}
