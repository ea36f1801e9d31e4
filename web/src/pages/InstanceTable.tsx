import { Button, Dropdown } from 'antd'
import { memo, useDeferredValue, useMemo, useState } from 'react'
import { Link } from 'react-router'
import type { Instance } from '../api/client'
import { useChoice } from '../parts/address'
import { Ago } from '../parts/Ago'
import { actsOf, useInstanceActs, type Act } from '../parts/InstanceActs'
import { Pick } from '../parts/Choice'
import { count } from '../parts/words'
import { longTable } from '../parts/longTable'
import { Search } from '../parts/Search'
import { VerdictWord } from '../parts/VerdictWord'
import { Table } from '../parts/Table'

/** Instances, sortable, filterable, and selectable to act on several. */
export const InstanceTable = memo(function InstanceTable({
  instances,
  grouped = false,
}: {
  instances: Instance[]
  /** They are of several groups, or of none. */
  grouped?: boolean
}) {
  const alone = grouped && instances.every((i) => i.group === '')
  const [selected, setSelected] = useState<string[]>([])
  const [text, setText] = useChoice('find')
  const [state, setState] = useChoice('state')
  const wanted = useDeferredValue(text)
  const shown = useMemo(
    () =>
      instances.filter(
        (i) =>
          (state === '' || i.state === state || i.verdict === state) &&
          (wanted === '' ||
            [i.id, i.group, i.zone, i.version, i.address, i.why].some((t) => t.includes(wanted))),
      ),
    [instances, state, wanted],
  )

  const { act, dialog, busy } = useInstanceActs(
    (group) => instances.filter((i) => i.group === group && i.state === 'serving').length,
  )
  // An act on many is for those that are shown: what a filter hides is not meant.
  const meant = shown.filter((i) => selected.includes(i.id))
  return (
    <>
      {dialog}
      <div className="filters">
        <Search
          label="Search instances"
          hint="A name, zone, version, address or cause"
          value={text}
          onChange={setText}
        />
        <Pick
          label="State or verdict"
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
              label: s,
            })),
            { value: 'unhealthy', label: 'verdict unhealthy' },
            { value: 'unknown', label: 'verdict unknown' },
          ]}
        />
        {meant.length > 0 && (
          <Dropdown
            trigger={['click']}
            menu={{
              items: [
                ...(alone ? [{ key: 'retire', label: 'Retire: stop them for good', danger: true }] : []),
                { key: 'pin', label: 'Pin: nothing removes them' },
                { key: 'unpin', label: 'Unpin' },
                ...(alone ? [] : forGroups),
              ],
              onClick: ({ key }) => {
                act(meant, key as Act)
                setSelected([])
              },
            }}
          >
            <Button>With {count(meant.length, 'instance')}…</Button>
          </Dropdown>
        )}
      </div>
      <Table<Instance>
        size="small"
        rowKey="id"
        {...longTable(shown.length)}

        dataSource={shown}
        rowSelection={{ selectedRowKeys: selected, onChange: (keys) => setSelected(keys as string[]) }}
        locale={{ emptyText: instances.length > 0 ? 'None is like that.' : 'No instances.' }}
        columns={[
          {
            title: 'Instance',
            width: 125,
            sorter: (a, b) => a.id.localeCompare(b.id),
            render: (_, i) => <Link to={`/instances/${i.id}`}>{i.id}</Link>,
          },
          ...(grouped
            ? [
                {
                  title: 'Group',
                  width: 110,
                  sorter: (a: Instance, b: Instance) => a.group.localeCompare(b.group),
                  render: (_: unknown, i: Instance) =>
                    i.group === '' ? (
                      <span className="quiet">none</span>
                    ) : (
                      <Link to={`/groups/${i.group}`}>{i.group}</Link>
                    ),
                },
              ]
            : []),
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
            render: (_, i) =>
              `${i.state}${i.pinned ? ', pinned' : ''}${i.awaits ? ', awaits a fresh machine' : ''}`,
          },
          {
            title: 'Since',
            width: 95,
            align: 'right',
            sorter: (a, b) => a.since.localeCompare(b.since),
            render: (_, i) => <Ago at={i.since} />,
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
            title: <span className="unseen">Acts</span>,
            width: 70,
            render: (_, i) =>
              actsOf(i).length > 0 && (
                <Dropdown
                  trigger={['click']}
                  menu={{ items: actsOf(i), onClick: ({ key }) => act([i], key as Act) }}
                >
                  <Button size="small" type="text" loading={busy(i.id)} aria-label={`Act on ${i.id}`}>
                    Act…
                  </Button>
                </Dropdown>
              ),
          },
        ]}
      />
    </>
  )
})

const forGroups = [
  { key: 'park', label: 'Park: out of traffic, but kept' },
  { key: 'unpark', label: 'Unpark' },
  { key: 'recreate', label: 'Recreate one after another: fresh machines under their names' },
  { key: 'recreate-now', label: 'Recreate all at the same time', danger: true },
  { key: 'release', label: 'Release: they run on and belong to nobody' },
  { key: 'retire', label: 'Retire: drain, stop, and launch others', danger: true },
]
