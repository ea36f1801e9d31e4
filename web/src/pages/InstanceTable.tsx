import { Button, Dropdown, Modal, Table } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useImageFromInstance } from '../api/catalogue'
import type { Instance } from '../api/client'
import { useTellInstance, type InstanceAct } from '../api/queries'
import { Ago } from '../parts/Ago'
import { Trouble } from '../parts/Trouble'

export function InstanceTable({ instances, now }: { instances: Instance[]; now: number }) {
  const make = useImageFromInstance()
  const tell = useTellInstance()
  const [retiring, setRetiring] = useState<Instance | null>(null)
  const navigate = useNavigate()
  const makeImage = (instance: string, atRest: boolean) =>
    make.mutate(
      { instance, at_rest: atRest },
      { onSuccess: (i) => void navigate(`/images/${i.name}/${i.version}`) },
    )
  const act = (i: Instance, what: Act) => {
    if (what === 'live' || what === 'rest') makeImage(i.id, what === 'rest')
    else if (what === 'retire') setRetiring(i)
    else tell.mutate({ id: i.id, command: what })
  }
  return (
    <>
      <Trouble error={make.error ?? tell.error} />
      {retiring && (
        <Modal
          open
          title={`Retire ${retiring.id}?`}
          okText="Retire it"
          okButtonProps={{ danger: true }}
          onCancel={() => setRetiring(null)}
          onOk={() => {
            tell.mutate({ id: retiring.id, command: 'retire' })
            setRetiring(null)
          }}
        >
          It drains, its machine in {retiring.zone} stops, and its files go. The group launches another. Its
          journal stays.
        </Modal>
      )}
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
          { title: 'State', render: (_, i) => (i.pinned ? `${i.state}, pinned` : i.state) },
          { title: 'Since', align: 'right', render: (_, i) => <Ago at={i.since} now={now} /> },
          { title: 'Verdict', render: (_, i) => <VerdictWord verdict={i.verdict} /> },
          { title: 'Address', dataIndex: 'address' },
          { title: 'Because', dataIndex: 'why', ellipsis: true },
          {
            title: '',
            render: (_, i) =>
              (i.state === 'serving' || i.state === 'parked') && (
                <Dropdown
                  trigger={['click']}
                  menu={{ items: actsOf(i), onClick: ({ key }) => act(i, key as Act) }}
                >
                  <Button
                    size="small"
                    type="text"
                    loading={
                      (make.isPending && make.variables.instance === i.id) ||
                      (tell.isPending && tell.variables.id === i.id)
                    }
                  >
                    Act…
                  </Button>
                </Dropdown>
              ),
          },
        ]}
      />
    </>
  )
}

type Act = InstanceAct | 'live' | 'rest'

/** What may be done with an instance as it is. */
function actsOf(i: Instance): { key: Act; label: string }[] {
  const retire = { key: 'retire', label: 'Retire: drain, stop, and launch another' } as const
  if (i.state === 'parked') return [{ key: 'unpark', label: 'Unpark: back into traffic' }, retire]
  return [
    { key: 'park', label: 'Park: out of traffic, but kept' },
    i.pinned
      ? { key: 'unpin', label: 'Unpin: it may be removed again' }
      : { key: 'pin', label: 'Pin: nothing removes it' },
    { key: 'live', label: 'Make an image while it serves' },
    { key: 'rest', label: 'Make an image at rest: it drains, stops, and comes back' },
    ...(i.pinned ? [] : [retire]),
  ]
}

function VerdictWord({ verdict }: { verdict: Instance['verdict'] }) {
  if (verdict === 'unhealthy') return <span className="trouble">▲ unhealthy</span>
  if (verdict === 'unknown') return <span className="waiting">? unknown</span>
  return <span>● healthy</span>
}
