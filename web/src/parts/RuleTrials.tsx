import { Button, InputNumber, Modal } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useReplayRules, useTryRule, type Rule } from '../api/rules'
import { Chart, ChartLegend } from '../charts/Chart'
import type { Series } from '../charts/data'
import { Trouble } from './Trouble'
import { Sure } from './Sure'

/** What a rule would decide on a value, and to do it. */
export function TryRule({ group: g, rule, onClose }: { group: Group; rule: Rule; onClose: () => void }) {
  const attempt = useTryRule(g)
  const [value, setValue] = useState(rule.settings.keep_at ?? rule.settings.thresholds?.[0]?.at ?? 0)
  const came = attempt.data
  return (
    <Modal open title={`Try ${rule.name}`} footer={null} onCancel={onClose}>
      <p>
        What it would decide if {rule.settings.metric} were this, and had been for long enough. Nothing
        changes.
      </p>
      <div className="row">
        <InputNumber aria-label="Value" value={value} onChange={(v) => setValue(v ?? 0)} />
        <Button
          type="primary"
          loading={attempt.isPending}
          onClick={() => attempt.mutate({ rule: rule.name, value, act: false })}
        >
          Show
        </Button>
      </div>
      <Trouble error={attempt.error} />
      {came && (
        <>
          <p data-testid="tried">{came.sentence}</p>
          {came.acted && <p>Done: the size is {came.wants} now.</p>}
          {!came.acted && came.wants !== came.size && (
            <Sure
              title={`Have the size be ${came.wants}?`}
              description={`It is ${came.size}. The journal names you, the rule and the value.`}
              okText={`Make it ${came.wants}`}
              onConfirm={() => attempt.mutate({ rule: rule.name, value, act: true })}
            >
              <Button>Do it…</Button>
            </Sure>
          )}
        </>
      )}
    </Modal>
  )
}

const back = [
  { seconds: 3600, label: 'the last hour' },
  { seconds: 86_400, label: 'the last day' },
  { seconds: 604_800, label: 'the last 7 days' },
  { seconds: 2_592_000, label: 'the last 30 days' },
]

/** The sizes that the rules would have made of what was measured. */
export function ReplayRules({ group: g, onClose }: { group: Group; onClose: () => void }) {
  const replay = useReplayRules(g.name)
  const r = replay.data
  const say = (v: number) => String(v)
  const series: Series[] = r
    ? [
        {
          name: 'size that would have been',
          unit: '',
          tone: 1,
          style: 'steps',
          say,
          points: r.points.map((p) => ({ at: Date.parse(p.at), value: p.size })),
        },
        {
          name: 'served',
          unit: '',
          tone: 0,
          style: 'thin',
          say,
          points: r.points.map((p) => ({ at: Date.parse(p.at), value: p.was })),
        },
      ]
    : []
  return (
    <Modal open width={860} title={`Replay the rules of ${g.name}`} footer={null} onCancel={onClose}>
      <p>The rules as they are now, run over what was measured. Nothing changes.</p>
      <div className="row">
        {back.map((b) => (
          <Button
            key={b.seconds}
            size="small"
            loading={replay.isPending}
            onClick={() => replay.mutate({ since_seconds: b.seconds })}
          >
            {b.label}
          </Button>
        ))}
      </div>
      <Trouble error={replay.error} />
      {r && (
        <>
          <p data-testid="replayed">{r.sentence}</p>
          <Chart
            label="Sizes that would have been, and that were"
            from={Date.parse(r.from)}
            to={Date.parse(r.to)}
            series={series}
            marks={r.changes.map((c, k) => ({
              at: Date.parse(c.at),
              up: c.size > (r.changes[k - 1]?.size ?? 0),
              text: `${c.size}: ${c.because}`,
            }))}
            height={220}
          />
          <ChartLegend series={series} />
        </>
      )}
    </Modal>
  )
}
