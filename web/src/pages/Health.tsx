import { memo } from 'react'
import { Link } from 'react-router'
import type { Group, Instance } from '../api/client'
import { Ago } from '../parts/Ago'
import { Failures } from '../parts/Failures'
import { longTable } from '../parts/longTable'
import { Shown } from '../parts/Shown'
import { count, secondsBetween, span } from '../parts/words'
import { Table } from '../parts/Table'

interface Line {
  key: string
  instance: Instance
  check: string
  verdict: Instance['verdict']
  since: string | undefined
  why: string
}

/** What the checks say: how many are well, who is not and why, and what keeps failing. */
export const Health = memo(function Health({ group: g, instances }: { group: Group; instances: Instance[] }) {
  const judged = instances.filter((i) => i.state === 'serving' || i.state === 'settling')
  const well = judged.filter((i) => i.verdict === 'healthy').length
  const lines: Line[] = judged.flatMap((i) =>
    i.reports
      .filter((r) => r.verdict !== 'healthy')
      .map((r) => ({
        key: `${i.id} ${r.check}`,
        instance: i,
        check: r.check,
        verdict: r.verdict,
        since: r.since,
        why: r.why,
      })),
  )
  const coming = judged.filter((i) => i.state === 'settling' && i.reports.length === 0)
  return (
    <>
      <p>
        {judged.some((i) => i.reports.length > 0)
          ? `${count(well, 'instance')} of ${judged.length} healthy.`
          : judged.length > 0
            ? 'No check asks its instances.'
            : ''}{' '}
        It heals by{' '}
        {['off', 'machine', 'traffic'].includes(g.heal) ? g.heal : <Link to="/checks">{g.heal}</Link>}, at
        most {g.heal_limit_percent} % of the size at once.
        {g.usual_seconds !== undefined &&
          ` Its kind usually takes ${span(g.usual_seconds)} to become healthy, and 95 of 100 are there within ${span(g.slow_seconds ?? g.usual_seconds)}.`}
      </p>
      {coming.length > 0 && (
        <p className="waiting">
          … {count(coming.length, 'instance')} had no answer yet, the longest for{' '}
          <Shown>{(now) => span(Math.max(...coming.map((i) => secondsBetween(i.ordered_at, now))))}</Shown>{' '}
          since it was ordered.
        </p>
      )}
      {lines.length > 0 && (
        <Table<Line>
          size="small"
          rowKey="key"
          {...longTable(lines.length, 1180, 320)}
          dataSource={lines}
          columns={[
            {
              title: 'Instance',
              render: (_, l) => <Link to={`/instances/${l.instance.id}`}>{l.instance.id}</Link>,
            },
            { title: 'Check', dataIndex: 'check' },
            {
              title: 'Verdict',
              render: (_, l) =>
                l.verdict === 'unhealthy' ? (
                  <span className="trouble">▲ unhealthy</span>
                ) : (
                  <span className="waiting">
                    ? {l.instance.state === 'settling' ? 'not ready yet' : 'unknown'}
                  </span>
                ),
            },
            { title: 'Since', align: 'right', render: (_, l) => l.since && <Ago at={l.since} /> },
            { title: 'Because', dataIndex: 'why', ellipsis: true },
          ]}
        />
      )}
      <Failures group={g} />
    </>
  )
})
