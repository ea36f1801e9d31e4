import type { Gate } from '../api/client'
import { StateWord } from './StateWord'
import { Table } from './Table'

/** What new instances answer against old ones: a line for each gate, with its numbers. */
export function Gates({ gates }: { gates: Gate[] }) {
  if (gates.length === 0) return <p className="quiet">No gate compares what the new instances answer.</p>
  return (
    <Table<Gate & { key: number }>
      size="small"
      pagination={false}
      dataSource={gates.map((g, i) => ({ ...g, key: i }))}
      style={{ maxWidth: 940, marginBottom: 12 }}
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
        {
          title: 'Over time',
          render: (_, g) => <Trace gate={g} all={gates.filter((o) => o.floor === undefined).length} />,
        },
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
  if (g.floor === undefined) return `+${g.margin_percent} points`
  return g.eased_floor === undefined
    ? `at least ${g.floor}${unit(g)}`
    : `at least ${g.eased_floor} now (${g.floor})`
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
  if (g.state === 'undecided' && g.min_requests > 0)
    return `${g.wave_requests} of ${g.min_requests} requests, then ${g.on_undecided}`
  return g.on_broken
}

const traceWidth = 150
const traceHeight = 34

/** How the evidence came to be what it is: at the dashed line the gate breaks. */
function Trace({ gate: g, all }: { gate: Gate; all: number }) {
  const points = g.trace ?? []
  if (points.length < 2) return <span className="quiet">nothing yet</span>
  const limit = Math.log10(100 * Math.max(all, 1))
  const first = Date.parse(points[0]?.at ?? '')
  const last = Date.parse(points.at(-1)?.at ?? '')
  const x = (at: string) => (traceWidth * (Date.parse(at) - first)) / Math.max(last - first, 1)
  const y = (evidence: number) =>
    traceHeight -
    3 -
    ((traceHeight - 8) * Math.min(Math.max(Math.log10(Math.max(evidence, 1)), 0), limit)) / limit
  const d = points
    .map((p, i) => `${i ? 'L' : 'M'}${x(p.at).toFixed(1)} ${y(p.evidence).toFixed(1)}`)
    .join(' ')
  const end = points.at(-1)
  return (
    <svg
      width={traceWidth}
      height={traceHeight}
      role="img"
      aria-label={`Evidence over ${Math.round((last - first) / 1000)} s; now ${end?.evidence.toFixed(1) ?? ''}, and it breaks at ${100 * all}; lately ${end?.new_percent ?? 0} % of new and ${end?.old_percent ?? 0} % of old`}
    >
      <path d={`M0 ${y(10 ** limit)} H${traceWidth}`} stroke="var(--trouble)" strokeDasharray="4 3" />
      <path d={d} fill="none" stroke="var(--deep)" strokeWidth="1.5" />
      <title>Evidence against the new version; at the dashed line it breaks.</title>
    </svg>
  )
}
