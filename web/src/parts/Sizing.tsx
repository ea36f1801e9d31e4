import { memo, useState } from 'react'
import type { Group } from '../api/client'
import { useMetrics, useRules, useSeries, useSizes } from '../api/rules'
import { Chart, ChartLegend } from '../charts/Chart'
import { Choice, Pick } from './Choice'
import { useOfNow } from './now'
import { here } from './words'
import { Rules } from './Rules'
import { bandsOf, linesOf, marksOf, metricSeries, metricsOf, sizeSeries } from './sizingSeries'
import { Trouble } from './Trouble'

const spans = [
  { value: 900, label: '15 min' },
  { value: 3600, label: '1 hour' },
  { value: 21_600, label: '6 hours' },
  { value: 86_400, label: '1 day' },
  { value: 604_800, label: '7 days' },
]

/** How large the group is and was, why, and what its rules think now. */
export const Sizing = memo(function Sizing({ group: g }: { group: Group }) {
  const [seconds, setSeconds] = useState(3600)
  const rules = useRules(g.name)
  const metrics = useMetrics(g.name)
  const [chosen, setChosen] = useState<string[]>([])
  const sizes = useSizes(g.name, seconds)
  const asked = metricsOf(g.rules)
  for (const metric of chosen) {
    if (!asked.some((a) => a.metric === metric)) asked.push({ metric, aggregate: 'average' })
  }
  if (asked.length === 0) asked.push({ metric: 'cpu', aggregate: 'average' })
  const more = (metrics.data ?? []).map((m) => m.name).filter((m) => !asked.some((a) => a.metric === m))
  const series = useSeries(g.name, asked, seconds)
  const known = series.flatMap((s) => (s.data ? [s.data] : []))
  const to = useOfNow((now) => Math.floor(now / 5000) * 5000)
  const from = to - seconds * 1000
  const all = [
    ...sizeSeries(g, sizes.data ?? [], known[0], from, to),
    ...known.flatMap((s, k) => metricSeries(s, k)),
  ]
  const bands = bandsOf(rules.data, to)
  return (
    <>
      {rules.data && <p data-testid="sizing">{here(rules.data.sentence)}</p>}
      <Trouble error={rules.error ?? sizes.error ?? series.find((s) => s.error)?.error ?? null} />
      <div className="filters">
        <Choice label="Time shown" value={seconds} onChange={setSeconds} options={spans} />
        {more.length > 0 && (
          <Pick
            label="Show another metric"
            value=""
            onChange={(m) => setChosen([...chosen, m])}
            options={[
              { value: '', label: 'show another metric' },
              ...more.map((value) => ({ value, label: value })),
            ]}
          />
        )}
        {chosen.map((m) => (
          <button
            key={m}
            type="button"
            className="taken"
            aria-label={`Show ${m} no more`}
            onClick={() => setChosen(chosen.filter((c) => c !== m))}
          >
            {m} ✕
          </button>
        ))}
      </div>
      {sizes.data && (
        <>
          <Chart
            label={`Size of ${g.name} and what its rules go by, over ${spans.find((s) => s.value === seconds)?.label ?? ''}`}
            from={from}
            to={to}
            series={all}
            lines={linesOf(g.rules)}
            bands={bands}
            marks={marksOf(sizes.data, from)}
          />
          <ChartLegend series={all} bands={bands.length > 0} />
        </>
      )}
      <Rules group={g} list={rules.data} />
    </>
  )
})
