import { Button, Form, Input, InputNumber, Modal, Select } from 'antd'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { type Pool as PoolOf } from '../api/client'
import { useChangePool } from '../api/keeping'
import { usePool, isMissing } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Listeners, Targets, VersionWindows } from '../parts/PoolTraffic'
import { SpokenFields } from '../parts/SpokenFields'
import {
  ejectWords,
  fieldsOfSpoken,
  poolLimitWords,
  speakWords,
  spokenChange,
  stayWords,
  type SpokenFields as SpokenValues,
} from '../parts/spokenSettings'
import { differences, isStale, Stale } from '../parts/Stale'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { span } from '../parts/words'

/** One pool: is it well, who gets requests, how they are answered, its settings. */
export function Pool() {
  const name = useParams().name ?? ''
  useTitle(name)
  const pool = usePool(name)
  const [changing, setChanging] = useState(false)
  if (isMissing(pool.error)) {
    return (
      <Page>
        <h1 className="sentence">There is no pool {name}.</h1>
        <Link to="/pools">All pools</Link>
      </Page>
    )
  }
  const p = pool.data
  if (!p) {
    return (
      <Page>
        <Trouble error={pool.error} />
        <Loading lines={8} />
      </Page>
    )
  }
  return (
    <Page>
      <h1>{p.name}</h1>
      <p className="sentence" aria-live="polite">
        {p.sentence}
      </p>
      <Trouble error={pool.error} />
      <Listeners pool={p} />
      <h2>Targets</h2>
      <Targets pool={p} />
      <h2>By template version</h2>
      <VersionWindows pool={p} />
      <h2>Settings</h2>
      <Settings pool={p} />
      <div className="row" style={{ marginTop: 12 }}>
        <Button size="small" onClick={() => setChanging(true)}>
          Change…
        </Button>
      </div>
      {changing && <ChangePool pool={p} onClose={() => setChanging(false)} />}
    </Page>
  )
}

function Settings({ pool: p }: { pool: PoolOf }) {
  return (
    <dl className="facts">
      <dt>Groups</dt>
      <dd>
        {p.groups.length === 0 && 'none: groups that name the pool bring their instances'}
        {p.groups.map((g) => (
          <Link key={g} to={`/groups/${g}`} style={{ marginRight: 8 }}>
            {g}
          </Link>
        ))}
      </dd>
      <dt>Check</dt>
      <dd>
        <Link to="/checks">{p.check}</Link>
      </dd>
      <dt>Chooses</dt>
      <dd>
        {p.choose === 'least-busy'
          ? 'least-busy: the target with the fewest requests in flight for its weight'
          : 'round-robin: the next in turn, by weight'}
      </dd>
      <dt>With nobody healthy</dt>
      <dd>{p.nobody === 'refuse' ? 'refuse: 503 at once' : 'try-all: those that are unhealthy are tried'}</dd>
      <dt>Slow start</dt>
      <dd>
        {p.slow_start_seconds > 0 ? span(p.slow_start_seconds) : 'none: fresh targets have their full share'}
      </dd>
      <dt>Shares</dt>
      <dd>{sharesText(p) || 'every target of every group alike'}</dd>
      {p.shares.some((s) => s.reserve) && (
        <>
          <dt>Enough</dt>
          <dd>{p.enough_percent} % of the others healthy; below it the reserve takes over</dd>
        </>
      )}
      <dt>Speaks to targets</dt>
      <dd>{speakWords(p)}</dd>
      <dt>Callers stay</dt>
      <dd>{stayWords(p)}</dd>
      <dt>Sets aside</dt>
      <dd>{ejectWords(p)}</dd>
      <dt>Limits</dt>
      <dd>{poolLimitWords(p)}</dd>
      <dt>Weights</dt>
      <dd>
        {Object.entries(p.weights)
          .map(([i, w]) => `${i} ${w}`)
          .join(', ') || 'all 100'}
      </dd>
    </dl>
  )
}

function sharesText(p: PoolOf): string {
  return p.shares.map((s) => `${s.group}=${s.weight}${s.reserve ? ',reserve' : ''}`).join(' ')
}

interface Fields extends SpokenValues {
  choose: PoolOf['choose']
  nobody: PoolOf['nobody']
  slow: number
  shares: string
  enough: number
}

function fieldsOf(p: PoolOf): Fields {
  return {
    choose: p.choose,
    nobody: p.nobody,
    slow: p.slow_start_seconds,
    shares: sharesText(p),
    enough: p.enough_percent,
    ...fieldsOfSpoken(p),
  }
}

const lines: Record<string, (p: PoolOf) => string> = {
  'What it chooses': (p) => p.choose,
  'With nobody healthy': (p) => p.nobody,
  'Slow start': (p) => `${p.slow_start_seconds} s`,
  Shares: (p) => sharesText(p) || 'alike',
  Enough: (p) => `${p.enough_percent} %`,
  Check: (p) => p.check,
  Listeners: (p) => p.listeners.map((l) => l.address).join(', '),
  Weights: (p) => JSON.stringify(p.weights),
  'Speaks to targets': speakWords,
  'Callers stay': stayWords,
  'Sets aside': ejectWords,
  Limits: poolLimitWords,
}

function ChangePool({ pool, onClose }: { pool: PoolOf; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const [seen, setSeen] = useState(pool)
  const change = useChangePool()
  const submit = (f: Fields) => {
    const body = {
      choose: f.choose,
      nobody: f.nobody,
      slow_start_seconds: f.slow,
      enough_percent: f.enough,
      ...spokenChange({ ...fieldsOfSpoken(seen), ...f }),
      shares: f.shares
        .split(/\s+/)
        .filter((s) => s !== '')
        .map((text) => {
          const [group = '', rest = ''] = text.split('=')
          const [weight = '100', word] = rest.split(',')
          return { group, weight: Number(weight), reserve: word === 'reserve' }
        }),
    }
    change.mutate({ pool: seen, body }, { onSuccess: onClose })
  }
  const stale = isStale(change.error)
  const takeOver = () => {
    setSeen(pool)
    change.reset()
    form.setFieldsValue(fieldsOf(pool))
  }
  return (
    <Modal
      open
      width={800}
      title={`Change ${pool.name}`}
      okText="Change it"
      okButtonProps={{ disabled: stale }}
      confirmLoading={change.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <p>It applies at once; connections and requests that are under way go on.</p>
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={submit}
        initialValues={fieldsOf(seen)}
      >
        <Form.Item name="choose" label="Which target gets the next request">
          <Select options={[{ value: 'round-robin' }, { value: 'least-busy' }]} />
        </Form.Item>
        <Form.Item name="nobody" label="When no target is healthy">
          <Select options={[{ value: 'refuse' }, { value: 'try-all' }]} />
        </Form.Item>
        <Form.Item name="slow" label="Slow start" extra="How long a fresh target takes to come to its share.">
          <InputNumber min={0} max={3600} suffix="s" />
        </Form.Item>
        <Form.Item
          name="shares"
          label="Shares"
          extra="GROUP=WEIGHT with spaces between; GROUP=WEIGHT,reserve gets requests only when too few of the others are healthy."
        >
          <Input />
        </Form.Item>
        <Form.Item name="enough" label="Enough" extra="The share of the others that must be healthy.">
          <InputNumber min={1} max={100} suffix="%" />
        </Form.Item>
        <SpokenFields />
        {stale ? (
          <Stale changed={differences(seen, pool, lines)} onTakeOver={takeOver} />
        ) : (
          <Trouble error={change.error} />
        )}
      </Form>
    </Modal>
  )
}
