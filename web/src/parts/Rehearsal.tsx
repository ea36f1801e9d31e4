import type { Rollout } from '../api/client'
import { useRehearsalOf, type Rehearsal } from '../api/rollouts'
import { secondsBetween, span } from './words'

/** What came of a rehearsal: the sentence, a typical run, what stops it, what is assumed. */
export function RehearsalView({ of: r }: { of: Rehearsal }) {
  return (
    <section data-testid="rehearsal" aria-label="Rehearsal">
      <p>
        {r.sentence}
        {r.cut && <span className="waiting"> ▲ It was broken off before all runs were played.</span>}
      </p>
      <Timeline of={r} />
      <dl className="facts">
        {r.takes && (
          <>
            <dt>Takes</dt>
            <dd>
              {span(r.takes.median_seconds)}, 95 % within {span(r.takes.slow_seconds)}
            </dd>
          </>
        )}
        <dt>Extra</dt>
        <dd>
          {Number(r.extra_hours.toFixed(4))} machine hours
          {r.extra_cost !== undefined && `, ${Number(r.extra_cost.toFixed(6))} by the template's prices`}
        </dd>
        {r.stops.map((s) => (
          <div key={s.why} style={{ display: 'contents' }}>
            <dt className="trouble">
              ▲ {s.runs} of {r.runs} runs
            </dt>
            <dd>
              {s.why}
              {s.wave !== undefined && `, in wave ${s.wave}`}
              {s.after && `, after ${span(s.after.median_seconds)}`}
              {s.requests ? ` and ${s.requests} requests to new instances` : ''}
            </dd>
          </div>
        ))}
      </dl>
      <details>
        <summary>What is assumed</summary>
        <dl className="facts">
          {r.assumed.map((a) => (
            <div key={a.what} style={{ display: 'contents' }}>
              <dt>{a.what}</dt>
              <dd>
                {a.span && `${span(a.span.median_seconds)}, 95 % within ${span(a.span.slow_seconds)}; `}
                <span className="quiet">
                  {a.from}
                  {a.seen > 0 && `, ${a.seen} seen`}
                </span>
              </dd>
            </div>
          ))}
        </dl>
      </details>
    </section>
  )
}

const width = 660
const height = 130
const left = 34
const bottom = 22

/** How many serve as time goes, and how many of them on the new version. */
function Timeline({ of: r }: { of: Rehearsal }) {
  const end = Math.max(r.points.at(-1)?.at_seconds ?? 0, r.events.at(-1)?.at_seconds ?? 0, 1)
  const top = Math.max(r.size, ...r.points.map((p) => p.instances), 1)
  const x = (at: number) => left + ((width - left - 8) * at) / end
  const y = (n: number) => height - bottom - ((height - bottom - 10) * n) / top
  const steps = (of: (p: Rehearsal['points'][number]) => number) => {
    let d = ''
    r.points.forEach((p, i) => {
      d += i === 0 ? `M${x(p.at_seconds)} ${y(of(p))}` : ` H${x(p.at_seconds)} V${y(of(p))}`
    })
    return `${d} H${x(end)}`
  }
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width="100%"
      role="img"
      aria-label={`A typical run over ${span(end)}: at the lowest ${r.lowest_serving} of ${r.size} serve`}
    >
      <path d={`${steps((p) => p.new_serving)} V${y(0)} H${x(0)} Z`} fill="var(--deep)" fillOpacity="0.35" />
      <path d={steps((p) => p.serving)} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
      <path d={steps((p) => p.instances)} fill="none" stroke="var(--quiet)" strokeDasharray="3 3" />
      <path d={`M${left} ${y(0)} H${width - 8}`} stroke="var(--quiet)" />
      {r.events.map((e, i) => (
        <line key={i} x1={x(e.at_seconds)} x2={x(e.at_seconds)} y1={y(0)} y2={y(0) + 5} stroke="var(--ink)">
          <title>{`${span(e.at_seconds)}: ${e.text} Because ${e.because}.`}</title>
        </line>
      ))}
      <text x={left - 6} y={y(r.size) + 4} textAnchor="end" fontSize="11" fill="var(--ink)">
        {r.size}
      </text>
      <text x={left - 6} y={y(0) + 4} textAnchor="end" fontSize="11" fill="var(--ink)">
        0
      </text>
      <text x={left} y={height - 4} fontSize="11" fill="var(--ink)">
        0 s
      </text>
      <text x={width - 8} y={height - 4} textAnchor="end" fontSize="11" fill="var(--ink)">
        {span(end)}
      </text>
      <text x={(width + left) / 2} y={height - 4} textAnchor="middle" fontSize="11" fill="var(--quiet)">
        line: serving · filled: on the new version · dashes: all instances
      </text>
    </svg>
  )
}

/** What came of a rollout beside what its rehearsal said. */
export function Beside({ rollout: r }: { rollout: Rollout }) {
  const before = useRehearsalOf(r).data
  if (!before || !r.ended_at) return null
  return (
    <table className="beside" data-testid="beside">
      <thead>
        <tr>
          <th />
          <th>Rehearsed</th>
          <th>As it went</th>
        </tr>
      </thead>
      <tbody>
        <tr>
          <th>Ends</th>
          <td>{ends(before)}</td>
          <td>{r.state}</td>
        </tr>
        <tr>
          <th>Takes</th>
          <td>
            {before.takes
              ? `${span(before.takes.median_seconds)}, 95 % within ${span(before.takes.slow_seconds)}`
              : '–'}
          </td>
          <td>{span(secondsBetween(r.started_at, r.ended_at))}</td>
        </tr>
        <tr>
          <th>Lowest serving</th>
          <td>
            {before.lowest_serving} of {before.size}
          </td>
          <td>{r.lowest_serving ?? '–'}</td>
        </tr>
      </tbody>
    </table>
  )
}

function ends(r: Rehearsal): string {
  return (
    [
      [r.done, 'done'],
      [r.held, 'held'],
      [r.reverted, 'reverted'],
      [r.unfinished, 'not over'],
    ] as [number, string][]
  )
    .filter(([n]) => n > 0)
    .map(([n, what]) => `${what} in ${n} of ${r.runs} runs`)
    .join(', ')
}
