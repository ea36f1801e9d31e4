import { Button, Input } from 'antd'
import { useDeferredValue, useState } from 'react'
import type { Costs as CostsOf } from '../api/client'
import { Chart, ChartLegend } from '../charts/Chart'
import type { Series } from '../charts/data'
import { useCosts } from '../api/keeping'
import { Loading } from '../parts/Loading'
import { Choice } from '../parts/Choice'
import { Page } from '../parts/Page'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { save } from '../parts/save'
import { longTable } from '../parts/longTable'
import { Table } from '../parts/Table'

type Line = CostsOf['lines'][number]

const amount = (n: number) =>
  n.toLocaleString(undefined, { minimumFractionDigits: 2, maximumFractionDigits: n < 1 ? 4 : 2 })

/** What instances cost: this month to date, by group, zone or label. */
export function Costs() {
  useTitle('Costs')
  const [kind, setKind] = useState<'group' | 'zone' | 'label'>('group')
  const [label, setLabel] = useState('env')
  const [step, setStep] = useState<'hour' | 'day'>('hour')
  const [span, setSpan] = useState<'day' | 'month'>('day')
  const [since] = useState(() => new Date(Math.floor(Date.now() / 3_600_000 - 23) * 3_600_000).toISOString())
  const by = useDeferredValue(kind === 'label' ? `label:${label || 'env'}` : kind)
  const costs = useCosts(by, step, span === 'day' ? since : undefined)
  const c = costs.data
  return (
    <Page>
      <h1 className="sentence">
        {c
          ? `${amount(c.total)} ${span === 'day' ? 'in the last 24 hours' : 'this month to date'}; what runs now costs ${amount(c.now_per_hour)} per hour.`
          : ' '}
      </h1>
      <Trouble error={costs.error} />
      <div className="filters">
        <Choice
          label="Time"
          value={span}
          onChange={setSpan}
          options={[
            { value: 'day', label: '24 hours' },
            { value: 'month', label: 'This month' },
          ]}
        />
        <Choice
          label="By"
          value={kind}
          onChange={setKind}
          options={[
            { value: 'group', label: 'By group' },
            { value: 'zone', label: 'By zone' },
            { value: 'label', label: 'By label' },
          ]}
        />
        {kind === 'label' && (
          <Input
            className="choice"
            aria-label="Label"
            value={label}
            onChange={(e) => setLabel(e.target.value)}
          />
        )}
        <Choice
          label="Steps"
          value={step}
          onChange={setStep}
          options={[
            { value: 'hour', label: 'Hourly' },
            { value: 'day', label: 'Daily' },
          ]}
        />
        {c && <Button onClick={() => saveCSV(c)}>Save as CSV</Button>}
      </div>
      {costs.isPending && <Loading lines={6} />}
      {c && c.lines.length === 0 && (
        <p className="quiet">
          Nothing ran in this time. Here each group has its cost once its template has a price:{' '}
          <code>unitas template revise NAME --price-per-hour 0.04 --note …</code>
        </p>
      )}
      {c && c.lines.length > 0 && (
        <>
          <CostChart costs={c} />
          <Table<Line>
            size="small"
            rowKey="name"

            {...longTable(c.lines.length)}
            dataSource={c.lines}
            columns={[
              { title: kind === 'label' ? label : kind, render: (_, l) => l.name || '(none)' },
              {
                title: 'Hours run',
                align: 'right',
                sorter: (a, b) => a.hours - b.hours,
                render: (_, l) => `${l.hours.toFixed(1)} h`,
              },
              {
                title: 'Cost',
                align: 'right',
                sorter: (a, b) => a.cost - b.cost,
                render: (_, l) => amount(l.cost),
              },
              {
                title: 'Now per hour',
                align: 'right',
                sorter: (a, b) => a.now_per_hour - b.now_per_hour,
                render: (_, l) => amount(l.now_per_hour),
              },
            ]}
          />
        </>
      )}
    </Page>
  )
}

/** The four dearest, and the others together. */
function CostChart({ costs }: { costs: CostsOf }) {
  const shown = costs.lines.slice(0, 4)
  const others = costs.lines.slice(4)
  const begin = Date.parse(costs.from)
  const wide = costs.step_seconds * 1000
  const points = (steps: number[]) => steps.map((value, i) => ({ at: begin + i * wide, value }))
  const series: Series[] = shown.map((l, i) => ({
    name: l.name || '(none)',
    unit: '',
    tone: ([1, 3, 2, 4] as const)[i] ?? 4,
    style: 'line',
    say: amount,
    points: points(l.steps),
  }))
  if (others.length > 0) {
    const steps = (shown[0]?.steps ?? []).map((_, i) => others.reduce((n, l) => n + (l.steps[i] ?? 0), 0))
    series.push({ name: 'others', unit: '', tone: 4, style: 'thin', say: amount, points: points(steps) })
  }
  return (
    <>
      <Chart
        label={`Cost in each ${costs.step_seconds >= 86_400 ? 'day' : 'hour'}`}
        from={begin}
        to={Math.max(Date.parse(costs.to), begin + wide)}
        series={series}
        bars={wide}
      />
      <ChartLegend series={series} sizes={false} />
    </>
  )
}

function saveCSV(c: CostsOf) {
  const quoted = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text)
  const rows = [['from', c.by, 'cost']]
  const begin = Date.parse(c.from)
  c.lines.forEach((l) =>
    l.steps.forEach((cost, i) => {
      rows.push([new Date(begin + i * c.step_seconds * 1000).toISOString(), l.name, cost.toFixed(6)])
    }),
  )
  save(rows.map((r) => r.map(quoted).join(',')).join('\r\n'), 'costs.csv', 'text/csv')
}
