import { Tooltip } from 'antd'
import { memo } from 'react'
import { Link } from 'react-router'
import type { Pool } from '../api/client'
import { count, exact, secondsBetween, span } from './words'
import { longTable } from './longTable'
import { VerdictWord } from './VerdictWord'
import { Table } from './Table'

type Target = Pool['targets'][number]
type Window = Target['windows'][number]

const ms = (n: number) => (n === 0 ? '–' : `${n.toFixed(1)} ms`)

/** Where a pool takes requests, and what is wrong with it. */
export function Listeners({ pool }: { pool: Pool }) {
  return (
    <ul className="plain">
      {pool.listeners.length === 0 && (
        <li className="quiet">
          No listener sends to it yet: name it as the pool of a listener, or in a route.
        </li>
      )}
      {pool.listeners.map((l) => (
        <li key={l.address}>
          <Link to={`/listeners/${encodeURIComponent(l.address)}`}>
            {l.protocol}://{l.address}
          </Link>{' '}
          {l.routed && 'by a route, '}
          {l.trouble ? <span className="trouble">▲ {l.trouble}</span> : 'open'}
          {l.expires_at && <span className="quiet">, its certificate ends {exact(l.expires_at)}</span>}
        </li>
      ))}
    </ul>
  )
}

/** The targets of a pool, and what draining ones still have to finish. */
export const Targets = memo(function Targets({ pool, group }: { pool: Pool; group?: string }) {
  const targets = group ? pool.targets.filter((t) => t.group === group) : pool.targets
  return (
    <Table<Target>
      size="small"
      rowKey="instance"
      {...longTable(targets.length)}

      dataSource={targets}
      locale={{ emptyText: 'No targets: instances appear here when they are healthy.' }}
      columns={[
        { title: 'Target', dataIndex: 'instance', sorter: (a, b) => a.instance.localeCompare(b.instance) },
        { title: 'Version', dataIndex: 'version', sorter: (a, b) => a.version.localeCompare(b.version) },
        {
          title: `Verdict of ${pool.check}`,
          sorter: (a, b) => a.verdict.localeCompare(b.verdict),
          render: (_, t) => <Verdict target={t} />,
        },
        { title: 'Traffic', render: (_, t) => <TrafficWord target={t} /> },
        {
          title: 'Share',
          align: 'right',
          sorter: (a, b) => a.share_percent - b.share_percent,
          render: (_, t) => `${Math.round(t.share_percent)} %`,
        },
        {
          title: 'In flight',
          dataIndex: 'in_flight',
          align: 'right',
          sorter: (a, b) => a.in_flight - b.in_flight,
        },
        {
          title: 'Last minute',
          align: 'right',
          render: (_, t) => `${(t.windows[0]?.per_second ?? 0).toFixed(1)}/s`,
        },
        {
          title: 'Failures',
          align: 'right',
          sorter: (a, b) => a.failures - b.failures,
          render: (_, t) => (
            <span className={t.failures > 0 ? 'trouble' : ''}>{t.failures.toLocaleString()}</span>
          ),
        },
        { title: 'Retried', align: 'right', render: (_, t) => t.retried.toLocaleString() },
        {
          title: 'Median',
          align: 'right',
          sorter: (a, b) => a.median_ms - b.median_ms,
          render: (_, t) => ms(t.median_ms),
        },
        {
          title: '99 %',
          align: 'right',
          sorter: (a, b) => a.p99_ms - b.p99_ms,
          render: (_, t) => ms(t.p99_ms),
        },
      ]}
    />
  )
})

/** The verdict, and how far the answers are from one; all of it on hover and focus. */
function Verdict({ target: t }: { target: Target }) {
  return (
    <Tooltip title={t.why}>
      <span tabIndex={0}>
        <VerdictWord verdict={t.verdict} />
        {t.verdict !== 'healthy' && <div className="quiet">{t.why}</div>}
      </span>
    </Tooltip>
  )
}

function TrafficWord({ target: t }: { target: Target }) {
  if (t.ejected_until) {
    const left = Math.max(0, secondsBetween(new Date().toISOString(), t.ejected_until))
    const again = (t.ejected_nth ?? 1) > 1 ? `, the ${t.ejected_nth}. time in a row` : ''
    return (
      <span className="waiting">
        ▲ ejected for {span(left)}
        {again}: {t.ejected_why ?? 'it refused'}
      </span>
    )
  }
  if (t.open) return <span>● open</span>
  const oldest = t.waits_for[0]
  if (!oldest) return <span className="quiet">○ closed</span>
  return (
    <span className="waiting" title={t.waits_for.map((r) => `${r.method} ${r.path}`).join(', ')}>
      ○ finishes {count(t.in_flight, 'request')}: {oldest.method} {oldest.path} for {span(oldest.for_seconds)}
    </span>
  )
}

interface Line extends Window {
  key: string
  version: string
  lines: number
}

/** What each template version did over 1, 5 and 15 minutes. */
export const VersionWindows = memo(function VersionWindows({ pool }: { pool: Pool }) {
  const lines: Line[] = pool.versions.flatMap((v) =>
    v.windows.map((w, i) => ({
      ...w,
      key: `${v.version} ${w.minutes}`,
      version: v.version,
      lines: i === 0 ? v.windows.length : 0,
    })),
  )
  const n = (value: number) => value.toLocaleString()
  return (
    <Table<Line>
      size="small"
      rowKey="key"
      pagination={false}
      dataSource={lines}
      locale={{ emptyText: 'No requests yet: here each template version has what it answered.' }}
      columns={[
        { title: 'Version', dataIndex: 'version', onCell: (l) => ({ rowSpan: l.lines }) },
        { title: 'Over', align: 'right', render: (_, l) => `${l.minutes} m` },
        { title: 'Rate', align: 'right', render: (_, l) => `${l.per_second.toFixed(1)}/s` },
        { title: 'Requests', align: 'right', render: (_, l) => n(l.requests) },
        { title: '2xx', align: 'right', render: (_, l) => n(l.status_2xx) },
        { title: '3xx', align: 'right', render: (_, l) => n(l.status_3xx) },
        { title: '4xx', align: 'right', render: (_, l) => n(l.status_4xx) },
        { title: '5xx', align: 'right', render: (_, l) => <Bad n={l.status_5xx} /> },
        { title: 'Unanswered', align: 'right', render: (_, l) => <Bad n={l.unanswered} /> },
        { title: 'Median', align: 'right', render: (_, l) => ms(l.median_ms) },
        { title: '95 %', align: 'right', render: (_, l) => ms(l.p95_ms) },
        { title: '99 %', align: 'right', render: (_, l) => ms(l.p99_ms) },
      ]}
    />
  )
})

function Bad({ n }: { n: number }) {
  return <span className={n > 0 ? 'trouble' : ''}>{n.toLocaleString()}</span>
}
