import { Button } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useCalendarFile, useRemoveRule, type Rule, type RuleList, type RuleNow } from '../api/rules'
import { later } from './later'
import { save } from './save'
import { Trouble } from './Trouble'
import { Ago } from './Ago'
import { Remove } from './Remove'
import { Table } from './Table'
import { here } from './words'

const RuleForm = later(async () => (await import('./RuleForm')).RuleForm)
const CalendarFile = later(async () => (await import('./CalendarFile')).CalendarFile)
const TryRule = later(async () => (await import('./RuleTrials')).TryRule)
const ReplayRules = later(async () => (await import('./RuleTrials')).ReplayRules)

type Look = { rule: Rule | null; at: 'form' | 'try' } | { at: 'replay' | 'file' }

/** The rules of a group with what each asks for, and what can be done with them. */
export function Rules({ group: g, list }: { group: Group; list: RuleList | undefined }) {
  const [look, setLook] = useState<Look | null>(null)
  const file = useCalendarFile(g.name)
  const close = () => setLook(null)
  const calendars = g.rules.some((r) => r.kind === 'calendar')
  return (
    <>
      {list && list.items.length === 0 && (
        <p className="quiet">
          No rule changes its size. One can keep a metric near a value, act when a metric stays past a
          threshold, or set the size at certain times.
        </p>
      )}
      {list && list.items.length > 0 && <RuleTable group={g} items={list.items} onLook={setLook} />}
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
      {look?.at === 'form' && (
        <RuleForm
          group={g}
          rule={g.rules.find((r) => r.name === look.rule?.name) ?? look.rule}
          onClose={close}
        />
      )}
      {look?.at === 'try' && look.rule && <TryRule group={g} rule={look.rule} onClose={close} />}
      {look?.at === 'replay' && <ReplayRules group={g} onClose={close} />}
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
  onLook,
}: {
  group: Group
  items: RuleNow[]
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
            title: 'Why',
            render: (_, r) => (
              <>
                {here(r.why)}
                <div className="quiet">{here(r.rule.says)}</div>
              </>
            ),
          },
          {
            title: 'Acted last',
            render: (_, r) => (r.acted_at ? <Ago at={r.acted_at} /> : 'never'),
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
