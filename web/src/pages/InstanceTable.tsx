import { Button, Dropdown, Table } from 'antd'
import { useNavigate } from 'react-router'
import { useImageFromInstance } from '../api/catalogue'
import type { Instance } from '../api/client'
import { Ago } from '../parts/Ago'
import { Trouble } from '../parts/Trouble'

export function InstanceTable({ instances, now }: { instances: Instance[]; now: number }) {
  const make = useImageFromInstance()
  const navigate = useNavigate()
  const makeImage = (instance: string, atRest: boolean) =>
    make.mutate(
      { instance, at_rest: atRest },
      { onSuccess: (i) => void navigate(`/images/${i.name}/${i.version}`) },
    )
  return (
    <>
      <Trouble error={make.error} />
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
          {
            title: '',
            render: (_, i) =>
              i.state === 'serving' && (
                <Dropdown
                  trigger={['click']}
                  menu={{
                    items: [
                      { key: 'live', label: 'while it goes on serving' },
                      { key: 'rest', label: 'at rest: it drains, stops, and comes back' },
                    ],
                    onClick: ({ key }) => makeImage(i.id, key === 'rest'),
                  }}
                >
                  <Button
                    size="small"
                    type="text"
                    loading={make.isPending && make.variables.instance === i.id}
                  >
                    Make an image…
                  </Button>
                </Dropdown>
              ),
          },
        ]}
      />
    </>
  )
}

function VerdictWord({ verdict }: { verdict: Instance['verdict'] }) {
  if (verdict === 'unhealthy') return <span className="trouble">▲ unhealthy</span>
  if (verdict === 'unknown') return <span className="waiting">? unknown</span>
  return <span>● healthy</span>
}
