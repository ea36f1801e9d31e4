import { Button } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Pool } from '../api/client'
import { usePools } from '../api/keeping'
import { later } from '../parts/later'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { longTable } from '../parts/longTable'
import { Table } from '../parts/Table'

const minute = (p: Pool) => p.versions.map((v) => v.windows[0]).filter((w) => w !== undefined)

const MakePool = later(async () => (await import('../parts/PoolForm')).MakePool)

/** All pools: where they listen, whom they send to, and how that goes. */
export function Pools() {
  useTitle('Pools')
  const pools = usePools()
  const [making, setMaking] = useState(false)
  return (
    <Page>
      <div className="row">
        <h1 className="sentence">{pools.data ? headline(pools.data) : ' '}</h1>
        <span style={{ flex: 1 }} />
        <Button type="primary" onClick={() => setMaking(true)}>
          Make one…
        </Button>
      </div>
      {making && <MakePool onClose={() => setMaking(false)} />}
      <Trouble error={pools.error} />
      {pools.isPending && <Loading lines={4} />}
      {pools.data && (
        <Table<Pool>
          size="small"
          rowKey="name"
          {...longTable(pools.data.length)}

          dataSource={pools.data}
          locale={{
            emptyText: (
              <>
                Here every pool has a line. Make the first one here, or with{' '}
                <code>unitas pool create NAME --listen ADDRESS:PORT --check NAME</code>.
              </>
            ),
          }}
          columns={[
            {
              title: 'Pool',
              sorter: (a, b) => a.name.localeCompare(b.name),
              render: (_, p) => <Link to={`/pools/${p.name}`}>{p.name}</Link>,
            },
            { title: 'Listens on', render: (_, p) => p.listeners.map((l) => l.address).join(', ') },
            { title: 'Groups', render: (_, p) => p.groups.join(', ') || 'none' },
            { title: 'Check', dataIndex: 'check' },
            {
              title: 'Rate',
              align: 'right',
              render: (_, p) =>
                `${minute(p)
                  .reduce((n, w) => n + w.per_second, 0)
                  .toFixed(1)}/s`,
            },
            {
              title: 'Failed, 1 m',
              align: 'right',
              render: (_, p) => {
                const n = minute(p).reduce((sum, w) => sum + w.status_5xx + w.unanswered, 0)
                return <span className={n > 0 ? 'trouble' : ''}>{n.toLocaleString()}</span>
              },
            },
            { title: 'Now', dataIndex: 'sentence', ellipsis: true },
          ]}
        />
      )}
    </Page>
  )
}

function headline(pools: Pool[]): string {
  if (pools.length === 0) return 'No pools yet.'
  const troubled = pools.filter((p) => p.listeners.some((l) => l.trouble)).length
  const empty = pools.filter((p) => !p.targets.some((t) => t.open)).length
  return `${count(pools.length, 'pool')}${troubled ? `, ${troubled} with a listener in trouble` : ''}${empty ? `, ${empty} with nobody to send to` : ''}.`
}
