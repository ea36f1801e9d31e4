import type { Rollout } from '../api/client'
import { useFindings, type Findings as FindingsOf } from '../api/rollouts'
import { Trouble } from './Trouble'
import { Table } from './Table'

/** What the new instances of a rollout that went wrong had in common. */
export function Findings({ rollout }: { rollout: Rollout }) {
  const wrong = rollout.state === 'held' || rollout.back || rollout.state === 'reverted'
  const found = useFindings(rollout, wrong)
  if (!wrong) return null
  const f = found.data
  return (
    <section className="findings" data-testid="findings" aria-label="What was found">
      <h3>What the new instances had in common</h3>
      <Trouble error={found.error} />
      {f && (
        <>
          <ul>
            {f.common.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
          {f.changes.length > 0 && (
            <Table
              size="small"
              pagination={false}
              rowKey="field"
              dataSource={f.changes}
              style={{ maxWidth: 760, marginBottom: 12 }}
              columns={[
                { title: 'Template field', dataIndex: 'field' },
                { title: rollout.from, render: (_, c) => c.was || '–' },
                { title: rollout.to, render: (_, c) => c.now || '–' },
              ]}
            />
          )}
          {f.paths.some((p) => p.failed > 0) && <Paths paths={f.paths} />}
          {f.instances.slice(0, 3).map((i) => (
            <details key={i.instance}>
              <summary>
                {i.instance} in {i.zone}: {i.why}
              </summary>
              <pre className="log">{i.boot_log || 'It wrote nothing.'}</pre>
            </details>
          ))}
        </>
      )}
    </section>
  )
}

function Paths({ paths }: { paths: FindingsOf['paths'] }) {
  return (
    <Table
      size="small"
      pagination={false}
      rowKey="path"
      dataSource={paths.slice(0, 10)}
      style={{ maxWidth: 760, marginBottom: 12 }}
      columns={[
        { title: 'Path', dataIndex: 'path' },
        { title: 'Requests', dataIndex: 'requests', align: 'right' },
        { title: 'Failed', dataIndex: 'failed', align: 'right' },
        ...['2xx', '3xx', '4xx', '5xx', 'none'].map((title, i) => ({
          title,
          align: 'right' as const,
          render: (_: unknown, p: FindingsOf['paths'][number]) => p.classes[i + 1] ?? 0,
        })),
      ]}
    />
  )
}
