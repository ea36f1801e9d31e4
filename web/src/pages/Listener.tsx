import { Button } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import {
  useCloseListener,
  useListener,
  useAccessLog,
  type Listener as ListenerOf,
  type AccessLine,
} from '../api/listeners'
import { isMissing } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { ListenerForm } from '../parts/ListenerForm'
import { splitOf, limitWords, accessLogWords, regionOrderWords, takes } from '../parts/listenerSettings'
import { Remove } from '../parts/Remove'
import { RoutesForm } from '../parts/RoutesForm'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { TryRequest } from '../parts/TryRequest'
import { exact, size } from '../parts/words'
import { Table } from '../parts/Table'

/** One listener: is it well, where requests go and why, its access log, its settings. */
export function Listener() {
  const address = useParams().address ?? ''
  useTitle(address)
  const listener = useListener(address)
  const [changing, setChanging] = useState(false)
  const [routing, setRouting] = useState(false)
  const close = useCloseListener()
  const navigate = useNavigate()
  if (isMissing(listener.error)) {
    return (
      <Page>
        <h1 className="sentence">There is no listener {address}.</h1>
        <Link to="/listeners">All listeners</Link>
      </Page>
    )
  }
  const l = listener.data
  if (!l) {
    return (
      <Page>
        <Trouble error={listener.error} />
        <Loading lines={8} />
      </Page>
    )
  }
  return (
    <Page>
      <h1>
        {l.protocol}://{l.address}
      </h1>
      <p className={l.trouble ? 'sentence trouble' : 'sentence'} aria-live="polite">
        {l.trouble ? '▲ ' : ''}
        {l.sentence}
      </p>
      <p className="quiet">{counts(l)}</p>
      <Trouble error={listener.error ?? close.error} />
      {l.protocol !== 'tcp' && (
        <>
          <h2>Routes, in the order in which they are asked</h2>
          <Routes listener={l} />
          <div className="row" style={{ margin: '12px 0' }}>
            <Button size="small" onClick={() => setRouting(true)}>
              Change routes…
            </Button>
          </div>
          <h2>Where would a request go?</h2>
          <TryRequest listener={l} />
        </>
      )}
      <h2>Access log</h2>
      <AccessLog listener={l} />
      <h2>Settings</h2>
      <Settings listener={l} />
      <div className="row" style={{ marginTop: 12 }}>
        <Button size="small" onClick={() => setChanging(true)}>
          Change…
        </Button>
        <Remove
          name={l.address}
          goes="It takes no new connections; what is under way goes on."
          onRemove={() => close.mutate(l, { onSuccess: () => void navigate('/listeners') })}
        />
      </div>
      {changing && <ListenerForm listener={l} onClose={() => setChanging(false)} />}
      {routing && <RoutesForm listener={l} onClose={() => setRouting(false)} />}
    </Page>
  )
}

function counts(l: ListenerOf): string {
  const what = l.protocol === 'tcp' ? 'connections' : 'requests'
  const all = [
    `${l.requests.toLocaleString()} ${what} since the service started`,
    `${l.connections} connections open now`,
  ]
  if (l.refused > 0) all.push(`${l.refused.toLocaleString()} passed a limit`)
  if (l.malformed > 0) all.push(`${l.malformed.toLocaleString()} could not be passed on`)
  if (l.unrouted > 0) all.push(`${l.unrouted.toLocaleString()} were taken by no route`)
  if (l.access_log_lost > 0)
    all.push(`${l.access_log_lost.toLocaleString()} lines of the access log there was no time for`)
  return all.join(', ')
}

function Routes({ listener: l }: { listener: ListenerOf }) {
  const rows = l.routes.map((r, i) => ({ n: i + 1, takes: takes(r), pool: r.pool, split: splitOf(r) }))
  const rest = { n: 0, takes: l.routes.length ? 'what none takes' : 'everything', pool: l.pool, split: '' }
  return (
    <Table<(typeof rows)[number]>
      size="small"
      rowKey="n"
      pagination={false}
      dataSource={l.redirect ? [] : [...rows, rest]}
      locale={{ emptyText: `Everything is sent to https at port ${l.redirect}.` }}
      columns={[
        {
          title: <span className="unseen">Number</span>,
          align: 'right',
          width: 40,
          render: (_, r) => (r.n ? r.n : ''),
        },
        { title: 'Takes', dataIndex: 'takes' },
        {
          title: 'Goes to',
          render: (_, r) =>
            r.pool ? (
              <Link to={`/pools/${r.pool}`}>{r.pool}</Link>
            ) : (
              <span className="quiet">nobody: 404</span>
            ),
        },
        { title: 'Split off', dataIndex: 'split' },
      ]}
    />
  )
}

const ms = (n: number | undefined) => (n ? `${n.toFixed(1)} ms` : '–')

function AccessLog({ listener: l }: { listener: ListenerOf }) {
  const log = useAccessLog(l.address)
  return (
    <>
      <Trouble error={log.error} />
      <Table<AccessLine>
        size="small"
        rowKey={(s) => `${s.at} ${s.request_id ?? ''} ${s.total_ms}`}
        pagination={{ pageSize: 10, size: 'small', hideOnSinglePage: true, showSizeChanger: false }}
        dataSource={log.data?.lines ?? []}
        locale={{ emptyText: `Here are the newest lines of the access log: ${accessLogWords(l)}.` }}
        columns={[
          {
            title: 'At',
            width: 90,
            render: (_, s) => new Date(s.at).toLocaleTimeString(undefined, { hour12: false }),
          },
          {
            title: 'Status',
            align: 'right',
            width: 70,
            render: (_, s) => (
              <span className={(s.status ?? 0) >= 500 || s.failure ? 'trouble' : ''}>{s.status ?? '–'}</span>
            ),
          },
          {
            title: 'Request',
            ellipsis: true,
            render: (_, s) => (
              <>
                {s.method} {s.path ?? ''} <span className="quiet">{s.host ?? ''}</span>
              </>
            ),
          },
          { title: 'Target', width: 160, ellipsis: true, render: (_, s) => s.target ?? '–' },
          { title: 'First byte', align: 'right', width: 90, render: (_, s) => ms(s.first_byte_ms) },
          { title: 'Whole', align: 'right', width: 90, render: (_, s) => ms(s.total_ms) },
          { title: 'Out', align: 'right', width: 90, render: (_, s) => size(s.bytes_out) },
          { title: 'Caller', width: 130, dataIndex: 'caller' },
          { title: 'What failed', dataIndex: 'failure' },
        ]}
      />
      {log.data && log.data.lines.length > 0 && (
        <p className="quiet">
          The whole is at the service in <code>{log.data.file}</code>.
        </p>
      )}
    </>
  )
}

function Settings({ listener: l }: { listener: ListenerOf }) {
  return (
    <dl className="facts">
      {l.protocol === 'https' && (
        <>
          <dt>Certificates</dt>
          <dd>
            {l.certificates.join(', ')}
            {l.expires_at && `; the first ends ${exact(l.expires_at)}`}
          </dd>
          <dt>TLS</dt>
          <dd>{l.min_tls} or newer</dd>
        </>
      )}
      {l.protocol !== 'tcp' && (
        <>
          <dt>HTTP/2</dt>
          <dd>
            {l.http2 ? (l.protocol === 'https' ? 'offered' : 'in clear, from callers that know of it') : 'no'}
          </dd>
        </>
      )}
      {l.proxy_protocol && (
        <>
          <dt>PROXY protocol</dt>
          <dd>version 2: targets are told who calls</dd>
        </>
      )}
      <dt>Region order</dt>
      <dd>{regionOrderWords(l)}</dd>
      <dt>Upgrades</dt>
      <dd>{l.protocol === 'tcp' ? 'whatever callers speak' : l.upgrades.join(', ')}</dd>
      <dt>Limits</dt>
      <dd>{limitWords(l)}</dd>
      <dt>Access log</dt>
      <dd>{accessLogWords(l)}</dd>
    </dl>
  )
}
