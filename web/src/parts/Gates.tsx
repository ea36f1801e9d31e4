import { Table } from 'antd'
import type { Gate } from '../api/client'
import { StateWord } from './StateWord'

/** What new instances answer against old ones: a line for each gate, with its numbers. */
export function Gates({ gates }: { gates: Gate[] }) {
  if (gates.length === 0) return <p className="quiet">No gate compares what the new instances answer.</p>
  return (
    <Table<Gate & { key: number }>
      size="small"
      pagination={false}
      dataSource={gates.map((g, i) => ({ ...g, key: i }))}
      style={{ maxWidth: 760, marginBottom: 12 }}
      columns={[
        { title: 'Gate', dataIndex: 'what' },
        { title: 'State', render: (_, g) => <StateWord state={g.state} /> },
        { title: 'New', align: 'right', render: (_, g) => valueOf(g) },
        {
          title: 'Old',
          align: 'right',
          render: (_, g) => (g.floor === undefined ? failedShare(g.old_failed, g.old_requests) : '–'),
        },
        { title: 'At most', align: 'right', render: (_, g) => limitOf(g) },
        { title: 'By chance', align: 'right', render: (_, g) => byChance(g.evidence) },
        { title: 'When it breaks', render: (_, g) => otherwise(g) },
      ]}
    />
  )
}

const unit = (g: Gate) => (g.kind === 'healthy' ? ' %' : '')

/** What a gate looks at on the new side: a share, or what it is now. */
function valueOf(g: Gate): string {
  if (g.floor === undefined) return failedShare(g.new_failed, g.new_requests)
  return g.value === undefined ? 'none yet' : `${Number(g.value.toPrecision(3))}${unit(g)}`
}

function limitOf(g: Gate): string {
  return g.floor === undefined ? `+${g.margin_percent} points` : `at least ${g.floor}${unit(g)}`
}

/** How many of so many failed, as people compare them. */
export function failedShare(failed: number, of: number): string {
  if (of === 0) return 'none yet'
  const share = (100 * failed) / of
  const digits = share >= 10 ? share.toFixed(0) : String(Number(share.toPrecision(2)))
  return `${digits} % of ${of}`
}

export function byChance(evidence: number): string {
  return evidence >= 2 ? `1 in ${evidence.toFixed(0)}` : '–'
}

function otherwise(g: Gate): string {
  if (g.state === 'undecided' && g.least > 0)
    return `${g.wave_requests} of ${g.least} requests, then ${g.undecided}`
  return g.broken
}
