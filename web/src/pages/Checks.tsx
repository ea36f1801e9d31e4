import { Button, Form, Input, InputNumber, Modal, Table } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Check } from '../api/client'
import { useChangeCheck, useCheck, useChecks } from '../api/keeping'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { differences, isStale, Stale } from '../parts/Stale'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count, list, span } from '../parts/words'
import { longTable } from '../parts/longTable'

/** All health checks: what they ask, whom they judge, and advice. */
export function Checks() {
  useTitle('Checks')
  const checks = useChecks()
  const [changing, setChanging] = useState<string | null>(null)
  const all = checks.data ?? []
  const advised = all.filter((c) => c.advice.length > 0).length
  return (
    <Page>
      <h1 className="sentence">
        {checks.data
          ? all.length === 0
            ? 'No checks yet.'
            : `${count(all.length, 'check')}${advised ? `, ${advised} with advice` : ''}.`
          : ' '}
      </h1>
      <Trouble error={checks.error} />
      {checks.isPending && <Loading lines={4} />}
      {checks.data && (
        <Table<Check>
          size="small"
          rowKey="name"
          {...longTable(all.length)}

          dataSource={all}
          expandable={{
            columnTitle: <span className="unseen">More</span>,
            expandedRowRender: (c) => <Judged name={c.name} />,
          }}
          locale={{
            emptyText: (
              <>
                Here every check has a line. Make the first one with{' '}
                <code>unitas check create NAME --kind http --path /up</code>.
              </>
            ),
          }}
          columns={[
            { title: 'Check', dataIndex: 'name', sorter: (a, b) => a.name.localeCompare(b.name) },
            { title: 'Asks', render: (_, c) => question(c) },
            { title: 'Interval', align: 'right', render: (_, c) => span(c.interval_seconds) },
            { title: 'Timeout', align: 'right', render: (_, c) => span(c.timeout_seconds) },
            { title: 'Passes', align: 'right', dataIndex: 'passes' },
            { title: 'Fails', align: 'right', dataIndex: 'fails' },
            {
              title: 'Advice',
              render: (_, c) =>
                c.advice.map((a) => (
                  <div key={a} className="waiting">
                    ▲ {a}
                  </div>
                )),
            },
            {
              title: <span className="unseen">Acts</span>,
              render: (_, c) => (
                <Button size="small" type="text" onClick={() => setChanging(c.name)}>
                  Change…
                </Button>
              ),
            },
          ]}
        />
      )}
      {changing && <ChangeCheck name={changing} onClose={() => setChanging(null)} />}
    </Page>
  )
}

function question(c: Check): string {
  if (c.kind === 'http' || c.kind === 'https')
    return `${c.kind} port ${c.port} for ${c.path}, good are ${c.statuses}${c.text ? ` with “${c.text}”` : ''}`
  return `${c.kind} port ${c.port}${c.service ? ` after ${c.service}` : ''}`
}

function Judged({ name }: { name: string }) {
  const check = useCheck(name)
  if (!check.data) return check.error ? <Trouble error={check.error} /> : <Loading lines={1} />
  const { groups = [], pools = [] } = check.data
  if (groups.length + pools.length === 0) return <span className="quiet">It judges nobody yet.</span>
  return (
    <span>
      It judges{' '}
      {groups.map((g) => (
        <Link key={g} to={`/groups/${g}`} style={{ marginRight: 8 }}>
          the group {g}
        </Link>
      ))}
      {pools.map((p) => (
        <Link key={p} to={`/pools/${p}`} style={{ marginRight: 8 }}>
          the pool {p}
        </Link>
      ))}
    </span>
  )
}

interface Fields {
  path: string
  interval: number
  timeout: number
  passes: number
  fails: number
  reason: string
}

function fieldsOf(c: Check): Fields {
  return {
    path: c.path,
    interval: c.interval_seconds,
    timeout: c.timeout_seconds,
    passes: c.passes,
    fails: c.fails,
    reason: '',
  }
}

const lines: Record<string, (c: Check) => string> = {
  'What it asks': question,
  Interval: (c) => span(c.interval_seconds),
  Timeout: (c) => span(c.timeout_seconds),
  Passes: (c) => String(c.passes),
  Fails: (c) => String(c.fails),
}

function ChangeCheck({ name, onClose }: { name: string; onClose: () => void }) {
  const check = useCheck(name)
  const change = useChangeCheck()
  const [seen, setSeen] = useState<Check | null>(null)
  const [form] = Form.useForm<Fields>()
  const c = check.data
  const affected = [
    ...(c?.groups ?? []).map((g) => `the group ${g}`),
    ...(c?.pools ?? []).map((p) => `the pool ${p}`),
  ]
  const from = seen ?? c
  const submit = (f: Fields) => {
    if (!from) return
    const body = {
      ...(c?.kind === 'http' || c?.kind === 'https' ? { path: f.path } : {}),
      interval_seconds: f.interval,
      timeout_seconds: f.timeout,
      passes: f.passes,
      fails: f.fails,
      ...(f.reason ? { reason: f.reason } : {}),
    }
    change.mutate({ check: from, body }, { onSuccess: onClose })
  }
  const stale = isStale(change.error)
  const takeOver = () => {
    if (!c) return
    setSeen(c)
    change.reset()
    form.setFieldsValue(fieldsOf(c))
  }
  return (
    <Modal
      open
      title={`Change ${name}`}
      okText="Change it"
      okButtonProps={{ disabled: stale }}
      confirmLoading={change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>
        It applies at once to all that it judges: {list(affected) || 'nobody yet'}. Their instances are asked
        anew.
      </p>
      {c && (
        <Form<Fields>
          form={form}
          layout="vertical"
          requiredMark={false}
          onFinish={submit}
          initialValues={fieldsOf(c)}
          onValuesChange={() => setSeen((had) => had ?? c)}
        >
          {(c.kind === 'http' || c.kind === 'https') && (
            <Form.Item name="path" label="Path">
              <Input />
            </Form.Item>
          )}
          <Form.Item name="interval" label="Interval">
            <InputNumber min={0.1} max={3600} suffix="s" />
          </Form.Item>
          <Form.Item name="timeout" label="Timeout" extra="At most the interval.">
            <InputNumber min={0.01} max={600} suffix="s" />
          </Form.Item>
          <Form.Item name="passes" label="Passes" extra="Good answers in a row to become healthy.">
            <InputNumber min={1} max={20} />
          </Form.Item>
          <Form.Item name="fails" label="Fails" extra="Bad answers in a row to become unhealthy.">
            <InputNumber min={1} max={20} />
          </Form.Item>
          <Form.Item name="reason" label="Reason" extra="It is kept in the journal.">
            <Input />
          </Form.Item>
          {stale && from ? (
            <Stale changed={differences(from, c, lines)} onTakeOver={takeOver} />
          ) : (
            <Trouble error={change.error} />
          )}
        </Form>
      )}
    </Modal>
  )
}
