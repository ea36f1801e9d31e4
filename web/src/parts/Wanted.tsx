import { Button, Modal } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useWanted, type WantedGroup } from '../api/keeping'
import { Table } from './Table'
import { Trouble } from './Trouble'
import { here } from './words'

/** Opens what decisions about a group go by. */
export function Wanted({ group }: { group: Group }) {
  const [open, setOpen] = useState(false)
  return (
    <>
      <Button size="small" onClick={() => setOpen(true)}>
        What is wanted…
      </Button>
      {open && <WantedNow group={group.name} onClose={() => setOpen(false)} />}
    </>
  )
}

interface Row {
  key: string
  name: string
  whole: boolean
  instances: number
  serving: number
  stay: string
  wanted: number
}

function rowsOf(w: WantedGroup): Row[] {
  return w.versions.flatMap((v) => [
    { ...v, key: v.version, name: v.version, whole: true, stay: String(v.stay) },
    ...v.zones.map((z) => ({
      ...z,
      key: `${v.version} ${z.zone}`,
      name: z.zone === '' ? 'in no zone of the group' : z.zone,
      whole: false,
      stay: '',
    })),
  ])
}

/** How far what is there is from what is wanted, in words. */
export function difference(there: number, wanted: number): string {
  if (there === wanted) return ''
  return there < wanted ? `${wanted - there} missing` : `${there - wanted} too many`
}

function WantedNow({ group, onClose }: { group: string; onClose: () => void }) {
  const wanted = useWanted(group)
  const w = wanted.data
  return (
    <Modal open width={760} title={`What is wanted of ${group} now`} footer={null} onCancel={onClose}>
      <Trouble error={wanted.error} />
      {!w && !wanted.error && <p className="quiet">It is being worked out.</p>}
      {w && (
        <>
          <p data-testid="wanted">{w.sentence}</p>
          <Table<Row>
            size="small"
            pagination={false}
            dataSource={rowsOf(w)}
            columns={[
              {
                title: 'Version, zone',
                render: (_, r) =>
                  r.whole ? <b>{r.name}</b> : <span style={{ paddingLeft: 16 }}>{r.name}</span>,
              },
              { title: 'There', dataIndex: 'instances', align: 'right' },
              { title: 'Serving', dataIndex: 'serving', align: 'right' },
              { title: 'Stay', dataIndex: 'stay', align: 'right' },
              { title: 'Wanted', dataIndex: 'wanted', align: 'right' },
              { title: 'Difference', render: (_, r) => difference(r.instances, r.wanted) },
            ]}
          />
          {w.waits_for.length > 0 && (
            <>
              <p>It waits for:</p>
              <ul>
                {w.waits_for.map((text) => (
                  <li key={text}>{here(text)}</li>
                ))}
              </ul>
            </>
          )}
          <p className="quiet">
            Stay: pinned, or left out of the rollout. In the terminal: unitas why {group} --wanted
          </p>
        </>
      )}
    </Modal>
  )
}
