import { Button } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Check } from '../api/client'
import { useCheck, useChecks, useDeleteCheck } from '../api/keeping'
import { later } from '../parts/later'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Remove } from '../parts/Remove'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count, list, question, span } from '../parts/words'
import { longTable } from '../parts/longTable'
import { Table } from '../parts/Table'

const NewCheck = later(async () => (await import('../parts/CheckForm')).NewCheck)
const ChangeCheck = later(async () => (await import('../parts/CheckForm')).ChangeCheck)

/** All health checks: what they ask, whom they judge, and advice. */
export function Checks() {
  useTitle('Checks')
  const checks = useChecks()
  const [making, setMaking] = useState(false)
  const [changing, setChanging] = useState<string | null>(null)
  const all = checks.data ?? []
  const advised = all.filter((c) => c.advice.length > 0).length
  return (
    <Page>
      <div className="row">
        <h1 className="sentence">
          {checks.data
            ? all.length === 0
              ? 'No checks yet.'
              : `${count(all.length, 'check')}${advised ? `, ${advised} with advice` : ''}.`
            : ' '}
        </h1>
        <span style={{ flex: 1 }} />
        <Button type="primary" onClick={() => setMaking(true)}>
          Make one…
        </Button>
      </div>
      {making && <NewCheck onClose={() => setMaking(false)} />}
      <Trouble error={checks.error} />
      {checks.isPending && <Loading lines={4} />}
      {checks.data && (
        <Table<Check>
          size="small"
          rowKey="name"
          {...longTable(all.length)}

          dataSource={all}
          expandable={{
            columnTitle: <span className="unseen">More</span>,
            expandedRowRender: (c) => <Judged name={c.name} />,
          }}
          locale={{
            emptyText: (
              <>
                Here every check has a line. Make the first one here, or with{' '}
                <code>unitas check create NAME --kind http --path /up</code>.
              </>
            ),
          }}
          columns={[
            { title: 'Check', dataIndex: 'name', sorter: (a, b) => a.name.localeCompare(b.name) },
            { title: 'Asks', render: (_, c) => question(c) },
            { title: 'Interval', align: 'right', render: (_, c) => span(c.interval_seconds) },
            { title: 'Timeout', align: 'right', render: (_, c) => span(c.timeout_seconds) },
            { title: 'Passes', align: 'right', dataIndex: 'passes' },
            { title: 'Fails', align: 'right', dataIndex: 'fails' },
            {
              title: 'Advice',
              render: (_, c) =>
                c.advice.map((a) => (
                  <div key={a} className="waiting">
                    ▲ {a}
                  </div>
                )),
            },
            {
              title: <span className="unseen">Acts</span>,
              render: (_, c) => (
                <Button size="small" type="text" onClick={() => setChanging(c.name)}>
                  Change…
                </Button>
              ),
            },
          ]}
        />
      )}
      {changing && <ChangeCheck name={changing} onClose={() => setChanging(null)} />}
    </Page>
  )
}

function Judged({ name }: { name: string }) {
  const check = useCheck(name)
  const remove = useDeleteCheck()
  if (!check.data) return check.error ? <Trouble error={check.error} /> : <Loading lines={1} />
  const { groups = [], pools = [] } = check.data
  if (groups.length + pools.length === 0)
    return (
      <span className="row">
        <span className="quiet">It judges nobody.</span>
        <Remove
          name={name}
          goes="The check goes, with its settings. Nobody is judged by it."
          onRemove={() => remove.mutate(check.data)}
        />
        <Trouble error={remove.error} />
      </span>
    )
  return (
    <span>
      It judges{' '}
      {groups.map((g) => (
        <Link key={g} to={`/groups/${g}`} style={{ marginRight: 8 }}>
          the group {g}
        </Link>
      ))}
      {pools.map((p) => (
        <Link key={p} to={`/pools/${p}`} style={{ marginRight: 8 }}>
          the pool {p}
        </Link>
      ))}
      <span className="quiet">It can be removed once {list([...groups, ...pools])} name another.</span>
    </span>
  )
}
