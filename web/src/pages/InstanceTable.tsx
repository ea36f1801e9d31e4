import { Button, Dropdown, Input, Modal, Select, Table } from 'antd'
import { useDeferredValue, useMemo, useState } from 'react'
import { useNavigate } from 'react-router'
import { useImageFromInstance } from '../api/catalogue'
import type { Instance } from '../api/client'
import { useReleaseInstance } from '../api/keeping'
import { useTellInstance, type InstanceAct } from '../api/queries'
import { Ago } from '../parts/Ago'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { longTable } from '../parts/longTable'
import { VerdictWord } from '../parts/VerdictWord'

type Act = InstanceAct | 'live' | 'rest' | 'release'

/** What stops or removes machines is asked for once, with what it does. */
const grave: Partial<Record<Act, { verb: string; says: (n: number) => string }>> = {
  retire: {
    verb: 'Retire',
    says: (n) =>
      `${n === 1 ? 'It drains, its machine stops, and its files go' : 'They drain, their machines stop, and their files go'}. The group launches ${n === 1 ? 'another' : 'others'}. Journals stay.`,
  },
  recreate: {
    verb: 'Recreate',
    says: (n) =>
      `${n === 1 ? 'It drains, its machine and files go, and a fresh one comes under its name' : 'They drain, their machines and files go, and fresh ones come under their names'}. Nothing takes the place meanwhile.`,
  },
  release: {
    verb: 'Release',
    says: (n) =>
      `${n === 1 ? 'It leaves the group and its pools for good, and runs on' : 'They leave the group and its pools for good, and run on'}. The group launches ${n === 1 ? 'another' : 'others'}.`,
  },
}

/** Instances, sortable, filterable, and selectable to act on several. */
export function InstanceTable({
  instances,
  now,
  alone = false,
}: {
  instances: Instance[]
  now: number
  /** They belong to no group, so nothing takes their place. */
  alone?: boolean
}) {
  const make = useImageFromInstance()
  const tell = useTellInstance()
  const release = useReleaseInstance()
  const [asking, setAsking] = useState<{ act: Act; ids: string[] } | null>(null)
  const [selected, setSelected] = useState<string[]>([])
  const [told, setTold] = useState<{ done: number; of: number; failed: string[] } | null>(null)
  const [text, setText] = useState('')
  const [state, setState] = useState('')
  const wanted = useDeferredValue(text)
  const navigate = useNavigate()
  const shown = useMemo(
    () =>
      instances.filter(
        (i) =>
          (state === '' || i.state === state || i.verdict === state) &&
          (wanted === '' || [i.id, i.zone, i.version, i.address, i.why].some((t) => t.includes(wanted))),
      ),
    [instances, state, wanted],
  )

  const one = (id: string, act: Act) =>
    act === 'release'
      ? release.mutateAsync({ id, replace: true })
      : tell.mutateAsync({ id, command: act as InstanceAct })
  const all = async (ids: string[], act: Act) => {
    const failed: string[] = []
    for (const [i, id] of ids.entries()) {
      setTold({ done: i, of: ids.length, failed })
      try {
        await one(id, act)
      } catch (e) {
        failed.push(e instanceof Error ? e.message : String(e))
      }
    }
    setTold({ done: ids.length, of: ids.length, failed })
    setSelected([])
  }
  const act = (ids: string[], what: Act) => {
    const first = ids[0]
    if (!first) return
    if (what === 'live' || what === 'rest')
      make.mutate(
        { instance: first, at_rest: what === 'rest' },
        { onSuccess: (i) => void navigate(`/images/${i.name}/${i.version}`) },
      )
    else if (grave[what]) setAsking({ act: what, ids })
    else void all(ids, what)
  }
  return (
    <>
      <Trouble error={make.error} />
      {asking && (
        <Modal
          open
          title={`${grave[asking.act]?.verb ?? ''} ${asking.ids.length === 1 ? (asking.ids[0] ?? '') : count(asking.ids.length, 'instance')}?`}
          okText={`${grave[asking.act]?.verb ?? ''} ${asking.ids.length === 1 ? 'it' : 'them'}`}
          okButtonProps={{ danger: true }}
          onCancel={() => setAsking(null)}
          onOk={() => {
            void all(asking.ids, asking.act)
            setAsking(null)
          }}
        >
          {asking.ids.length > 1 && (
            <p>
              {asking.ids.slice(0, 20).join(', ')}
              {asking.ids.length > 20 && ' …'}
            </p>
          )}
          {alone ? aloneSays(asking.ids.length) : grave[asking.act]?.says(asking.ids.length)}
        </Modal>
      )}
      <div className="filters">
        <Input
          className="wide"
          allowClear
          placeholder="A name, zone, version, address or cause"
          aria-label="Search instances"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Select
          className="choice"
          aria-label="State or verdict"
          value={state}
          onChange={setState}
          options={[
            { value: '', label: 'Any state' },
            ...[
              'ordered',
              'booting',
              'held',
              'settling',
              'serving',
              'parked',
              'draining',
              'leaving',
              'lost',
            ].map((s) => ({
              value: s,
            })),
            { value: 'unhealthy', label: 'verdict unhealthy' },
            { value: 'unknown', label: 'verdict unknown' },
          ]}
        />
        {selected.length > 0 && (
          <Dropdown
            trigger={['click']}
            menu={{
              items: [
                ...(alone ? [{ key: 'retire', label: 'Retire: stop them for good', danger: true }] : []),
                { key: 'pin', label: 'Pin: nothing removes them' },
                { key: 'unpin', label: 'Unpin' },
                ...(alone ? [] : forGroups),
              ],
              onClick: ({ key }) => act(selected, key as Act),
            }}
          >
            <Button>With {count(selected.length, 'instance')}…</Button>
          </Dropdown>
        )}
        {told && told.done < told.of && (
          <span className="waiting">
            {told.done} of {told.of} told
          </span>
        )}
      </div>
      {told && told.failed.length > 0 && (
        <p className="trouble" role="alert">
          ▲ {told.failed.length} of {told.of} refused: {told.failed.slice(0, 3).join(' ')}
        </p>
      )}
      <Table<Instance>
        size="small"
        rowKey="id"
        {...longTable(shown.length)}

        dataSource={shown}
        rowSelection={{ selectedRowKeys: selected, onChange: (keys) => setSelected(keys as string[]) }}
        locale={{ emptyText: instances.length > 0 ? 'None is like that.' : 'No instances.' }}
        columns={[
          { title: 'Instance', width: 125, dataIndex: 'id', sorter: (a, b) => a.id.localeCompare(b.id) },
          { title: 'Zone', width: 90, dataIndex: 'zone', sorter: (a, b) => a.zone.localeCompare(b.zone) },
          {
            title: 'Version',
            width: 130,
            dataIndex: 'version',
            sorter: (a, b) => a.version.localeCompare(b.version),
          },
          {
            title: 'State',
            width: 115,
            sorter: (a, b) => a.state.localeCompare(b.state),
            render: (_, i) => (i.pinned ? `${i.state}, pinned` : i.state),
          },
          {
            title: 'Since',
            width: 95,
            align: 'right',
            sorter: (a, b) => a.since.localeCompare(b.since),
            render: (_, i) => <Ago at={i.since} now={now} />,
          },
          {
            title: 'Verdict',
            width: 100,
            sorter: (a, b) => a.verdict.localeCompare(b.verdict),
            render: (_, i) => <VerdictWord verdict={i.verdict} />,
          },
          {
            title: 'In flight',
            width: 85,
            align: 'right',
            dataIndex: 'in_flight',
            sorter: (a, b) => a.in_flight - b.in_flight,
          },
          { title: 'Address', width: 105, dataIndex: 'address' },
          { title: 'Because', dataIndex: 'why', ellipsis: true },
          {
            title: '',
            width: 70,
            render: (_, i) =>
              (i.state === 'serving' || i.state === 'parked') && (
                <Dropdown
                  trigger={['click']}
                  menu={{
                    items: alone ? actsAlone(i) : actsOf(i),
                    onClick: ({ key }) => act([i.id], key as Act),
                  }}
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

const aloneSays = (n: number) =>
  `${n === 1 ? 'Its machine stops, and its files go' : 'Their machines stop, and their files go'}. Nothing takes the place. Journals stay.`

const forGroups = [
  { key: 'park', label: 'Park: out of traffic, but kept' },
  { key: 'unpark', label: 'Unpark' },
  { key: 'recreate', label: 'Recreate: fresh machines under their names' },
  { key: 'release', label: 'Release: they run on and belong to nobody' },
  { key: 'retire', label: 'Retire: drain, stop, and launch others', danger: true },
]

/** What may be done with one that belongs to no group. */
function actsAlone(i: Instance): { key: Act; label: string }[] {
  return [
    i.pinned
      ? { key: 'unpin', label: 'Unpin: it may be removed again' }
      : { key: 'pin', label: 'Pin: nothing removes it' },
    { key: 'live', label: 'Make an image while it serves' },
    ...(i.pinned ? [] : [{ key: 'retire', label: 'Retire: stop it for good' } as const]),
  ]
}

/** What may be done with an instance as it is. */
function actsOf(i: Instance): { key: Act; label: string }[] {
  const retire = { key: 'retire', label: 'Retire: drain, stop, and launch another' } as const
  const keep = [
    { key: 'recreate', label: 'Recreate: a fresh machine under its name' },
    { key: 'release', label: 'Release: it runs on and belongs to nobody' },
  ] as const
  if (i.state === 'parked') return [{ key: 'unpark', label: 'Unpark: back into traffic' }, ...keep, retire]
  return [
    { key: 'park', label: 'Park: out of traffic, but kept' },
    i.pinned
      ? { key: 'unpin', label: 'Unpin: it may be removed again' }
      : { key: 'pin', label: 'Pin: nothing removes it' },
    ...keep,
    { key: 'live', label: 'Make an image while it serves' },
    { key: 'rest', label: 'Make an image at rest: it drains, stops, and comes back' },
    ...(i.pinned ? [] : [retire]),
  ]
}
