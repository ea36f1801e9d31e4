import { Button, InputNumber, Modal, Popconfirm, Table } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import {
  useCalendarFile,
  useRemoveRule,
  useReplayRules,
  useTryRule,
  type Rule,
  type RuleList,
  type RuleNow,
} from '../api/rules'
import { Chart, ChartLegend } from '../charts/Chart'
import type { Series } from '../charts/data'
import { CalendarFile } from './CalendarFile'
import { RuleForm } from './RuleForm'
import { save } from './save'
import { Trouble } from './Trouble'
import { span } from './words'
import { Remove } from './Remove'

type Look = { rule: Rule | null; at: 'form' | 'try' } | { at: 'replay' | 'file' }

/** The rules of a group with what each thinks, and what can be done with them. */
export function Rules({ group: g, list, now }: { group: Group; list: RuleList | undefined; now: number }) {
  const [look, setLook] = useState<Look | null>(null)
  const file = useCalendarFile(g.name)
  const close = () => setLook(null)
  const calendars = g.rules.some((r) => r.kind === 'calendar')
  return (
    <>
      {list && list.items.length === 0 && (
        <p className="quiet">
          No rule changes its size. One can keep a metric near a value, act when a metric stays past a line,
          or set the size at certain times.
        </p>
      )}
      {list && list.items.length > 0 && <RuleTable group={g} items={list.items} now={now} onLook={setLook} />}
      {!g.deleting && (
        <div className="row" style={{ marginBottom: 12 }}>
          <Button size="small" onClick={() => setLook({ rule: null, at: 'form' })}>
            Add a rule…
          </Button>
          {g.rules.length > 0 && (
            <Button size="small" onClick={() => setLook({ at: 'replay' })}>
              Replay…
            </Button>
          )}
          <Button size="small" onClick={() => setLook({ at: 'file' })}>
            Bring in a calendar…
          </Button>
          {calendars && (
            <Button
              size="small"
              loading={file.isPending}
              onClick={() =>
                file.mutate(undefined, { onSuccess: (text) => save(text, `${g.name}.ics`, 'text/calendar') })
              }
            >
              Save the calendars
            </Button>
          )}
        </div>
      )}
      <Trouble error={file.error} />
      {look?.at === 'form' && <RuleForm group={g} rule={look.rule} onClose={close} />}
      {look?.at === 'try' && look.rule && <Try group={g} rule={look.rule} onClose={close} />}
      {look?.at === 'replay' && <Replay group={g} onClose={close} />}
      {look?.at === 'file' && <CalendarFile group={g} onClose={close} />}
    </>
  )
}

const asks: Record<RuleNow['asks'], string> = {
  grow: '▲ grow',
  shrink: '▼ shrink',
  stay: '● stay',
  unknown: '◌ not known',
  lasts: '● lasts',
  waits: '◌ waits',
}

function RuleTable({
  group: g,
  items,
  now,
  onLook,
}: {
  group: Group
  items: RuleNow[]
  now: number
  onLook: (l: Look) => void
}) {
  const remove = useRemoveRule(g)
  return (
    <>
      <Table<RuleNow>
        size="small"
        rowKey={(r) => r.rule.name}
        pagination={false}
        dataSource={items}
        style={{ marginBottom: 12 }}
        columns={[
          { title: 'Rule', render: (_, r) => r.rule.name },
          { title: 'Asks', render: (_, r) => (r.rule.off ? '– off' : asks[r.asks]) },
          {
            title: 'Thinks',
            render: (_, r) => (
              <>
                {r.thinks}
                <div className="quiet">{r.rule.says}</div>
              </>
            ),
          },
          {
            title: 'Acted last',
            render: (_, r) => (r.acted_at ? `${span((now - Date.parse(r.acted_at)) / 1000)} ago` : 'never'),
          },
          {
            title: <span className="unseen">Acts</span>,
            render: (_, r) => (
              <span className="row">
                {r.rule.kind !== 'calendar' && (
                  <Button
                    size="small"
                    aria-label={`Try ${r.rule.name}`}
                    onClick={() => onLook({ rule: r.rule, at: 'try' })}
                  >
                    Try…
                  </Button>
                )}
                <Button
                  size="small"
                  aria-label={`Change ${r.rule.name}`}
                  onClick={() => onLook({ rule: r.rule, at: 'form' })}
                >
                  Change…
                </Button>
                <Remove
                  name={r.rule.name}
                  goes="The size stays as it is, within the group's own min and max."
                  onRemove={() => remove.mutate(r.rule.name)}
                />
              </span>
            ),
          },
        ]}
      />
      <Trouble error={remove.error} />
    </>
  )
}

/** What a rule would decide on a value, and to do it. */
function Try({ group: g, rule, onClose }: { group: Group; rule: Rule; onClose: () => void }) {
  const attempt = useTryRule(g)
  const [value, setValue] = useState(rule.settings.target ?? rule.settings.lines?.[0]?.at ?? 0)
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
            <Popconfirm
              title={`Have the size be ${came.wants}?`}
              description={`It is ${came.size}. The journal names you, the rule and the value.`}
              okText={`Make it ${came.wants}`}
              onConfirm={() => attempt.mutate({ rule: rule.name, value, act: true })}
            >
              <Button>Do it…</Button>
            </Popconfirm>
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
function Replay({ group: g, onClose }: { group: Group; onClose: () => void }) {
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
