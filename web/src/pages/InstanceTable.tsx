import { Table } from 'antd'
import type { Instance } from '../api/client'
import { Ago } from '../parts/Ago'

export function InstanceTable({ instances, now }: { instances: Instance[]; now: number }) {
  return (
    <Table<Instance>
      size="small"
      rowKey="id"
      pagination={instances.length > 50 ? { pageSize: 50 } : false}
      dataSource={instances}
      locale={{ emptyText: 'No instances.' }}
      columns={[
        { title: 'Instance', dataIndex: 'id' },
        { title: 'Zone', dataIndex: 'zone' },
        { title: 'Version', dataIndex: 'version' },
        { title: 'State', dataIndex: 'state' },
        { title: 'Since', align: 'right', render: (_, i) => <Ago at={i.since} now={now} /> },
        { title: 'Verdict', render: (_, i) => <VerdictWord verdict={i.verdict} /> },
        { title: 'Address', dataIndex: 'address' },
        { title: 'Because', dataIndex: 'why', ellipsis: true },
      ]}
    />
  )
}

function VerdictWord({ verdict }: { verdict: Instance['verdict'] }) {
  if (verdict === 'unhealthy') return <span className="trouble">▲ unhealthy</span>
  if (verdict === 'unknown') return <span className="waiting">? unknown</span>
  return <span>● healthy</span>
}
