import { Button } from 'antd'
import { memo, useState } from 'react'
import type { Group } from '../api/client'
import { useDeliveries, useRemoveHook, useTickets, type Delivery, type Hook } from '../api/hooks'
import { Ago } from './Ago'
import { later } from './later'
import { TicketTable } from './Tickets'
import { Trouble } from './Trouble'
import { count, span } from './words'
import { Remove } from './Remove'
import { Table } from './Table'

const HookForm = later(async () => (await import('./HookForms')).HookForm)
const TryHook = later(async () => (await import('./HookForms')).TryHook)
const HookSecret = later(async () => (await import('./HookForms')).HookSecret)

/** The hooks of a group: whom they hold now, what they are, and what was sent and run. */
export const Hooks = memo(function Hooks({ group: g, instances }: { group: Group; instances: string[] }) {
  const tickets = useTickets(g.name)
  const [form, setForm] = useState<Hook | 'new' | null>(null)
  const open = tickets.data ?? []
  const tells = g.hooks.filter((h) => h.send !== '' || h.run.length > 0).map((h) => h.name)
  return (
    <>
      {g.hooks.length === 0 ? (
        <p className="quiet">
          No hook holds its instances. One can hold each between boot and service, to warm a cache or run a
          test, or between its drain and its end, to save what is on it.
        </p>
      ) : (
        <HookTable group={g} instances={instances} held={open.map((t) => t.hook)} onChange={setForm} />
      )}
      {open.length > 0 && <TicketTable tickets={open} groups={false} tells={tells} />}
      <Trouble error={tickets.error} />
      {tells.length > 0 && <Deliveries group={g.name} />}
      {!g.deleting && (
        <Button size="small" onClick={() => setForm('new')}>
          Add a hook…
        </Button>
      )}
      {form && (
        <HookForm
          group={g}
          hook={form === 'new' ? null : (g.hooks.find((h) => h.name === form.name) ?? form)}
          onClose={() => setForm(null)}
        />
      )}
    </>
  )
})

function HookTable({
  group: g,
  instances,
  held,
  onChange,
}: {
  group: Group
  instances: string[]
  held: string[]
  onChange: (h: Hook) => void
}) {
  const remove = useRemoveHook(g)
  const [look, setLook] = useState<{ hook: Hook; at: 'try' | 'secret' } | null>(null)
  return (
    <>
      <Table<Hook>
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={g.hooks}
        style={{ marginBottom: 12 }}
        columns={[
          { title: 'Hook', dataIndex: 'name' },
          { title: 'At', dataIndex: 'at' },
          {
            title: 'Usually holds',
            align: 'right',
            render: (_, h) => (h.usual_seconds ? span(h.usual_seconds) : '–'),
          },
          {
            title: '95 % within',
            align: 'right',
            render: (_, h) => (h.slow_seconds ? span(h.slow_seconds) : '–'),
          },
          {
            title: 'Deadline',
            align: 'right',
            render: (_, h) => `${span(h.deadline_seconds)}, then ${h.otherwise}`,
          },
          { title: 'Who answers', render: (_, h) => whoAnswers(h) },
          {
            title: <span className="unseen">Acts</span>,
            render: (_, h) => (
              <span className="row">
                {(h.send !== '' || h.run.length > 0) && (
                  <Button size="small" onClick={() => setLook({ hook: h, at: 'try' })}>
                    Try…
                  </Button>
                )}
                {h.send !== '' && (
                  <Button size="small" onClick={() => setLook({ hook: h, at: 'secret' })}>
                    Secret…
                  </Button>
                )}
                <Button size="small" aria-label={`Change ${h.name}`} onClick={() => onChange(h)}>
                  Change…
                </Button>
                <Remove
                  name={h.name}
                  goes={`${count(held.filter((name) => name === h.name).length, 'instance')} that it holds now go on unanswered, and its secret goes.`}
                  onRemove={() => remove.mutate(h.name)}
                />
              </span>
            ),
          },
        ]}
      />
      {g.hooks.length > 1 && (
        <p className="quiet">
          Those of a point hold {g.hooks_at_once ? 'all at once' : 'one after another, in this order'}.
        </p>
      )}
      <Trouble error={remove.error} />
      {look?.at === 'try' && (
        <TryHook group={g.name} hook={look.hook} instances={instances} onClose={() => setLook(null)} />
      )}
      {look?.at === 'secret' && <HookSecret group={g.name} hook={look.hook} onClose={() => setLook(null)} />}
    </>
  )
}

function whoAnswers(h: Hook): string {
  if (h.send !== '') return `a message to ${h.send}`
  if (h.run.length > 0) return `the command ${h.run.join(' ')}`
  return 'people, or programs that look'
}

/** What was sent and run lately, and what came back. */
function Deliveries({ group }: { group: string }) {
  const all = useDeliveries(group)
  if (!all.data?.length) return null
  return (
    <details style={{ marginBottom: 12 }}>
      <summary>What was sent and run lately</summary>
      <Table<Delivery>
        size="small"
        rowKey="number"
        pagination={false}
        dataSource={all.data}
        columns={[
          { title: 'When', render: (_, d) => <Ago at={d.at} /> },
          { title: 'Ticket', render: (_, d) => `${d.instance}/${d.hook}` },
          {
            title: 'Status',
            align: 'right',
            render: (_, d) => ((d.kind === 'webhook' && d.status === 0) || d.status < 0 ? 'none' : d.status),
          },
          { title: 'Took', align: 'right', render: (_, d) => `${d.took_ms.toFixed(1)} ms` },
          { title: 'Delivered', render: (_, d) => (d.delivered ? 'yes' : '▲ no') },
          { title: 'Sent by', render: (_, d) => d.sent_by || 'the service' },
          { title: 'Response', dataIndex: 'response' },
        ]}
      />
    </details>
  )
}
