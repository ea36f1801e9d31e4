import { Button } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { useListeners, type Listener } from '../api/listeners'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { ListenerForm } from '../parts/ListenerForm'
import { longTable } from '../parts/longTable'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { Table } from '../parts/Table'

/** All listeners: what they speak, where they send, and whether they are well. */
export function Listeners() {
  useTitle('Listeners')
  const listeners = useListeners()
  const [making, setMaking] = useState(false)
  const all = listeners.data ?? []
  const troubled = all.filter((l) => l.trouble).length
  return (
    <Page>
      <h1 className="sentence">
        {listeners.data
          ? all.length === 0
            ? 'No listeners yet.'
            : `${count(all.length, 'listener')}${troubled ? `, ${troubled} in trouble` : ''}.`
          : ' '}
      </h1>
      <div className="row" style={{ marginBottom: 12 }}>
        <Button size="small" onClick={() => setMaking(true)}>
          New listener…
        </Button>
      </div>
      <Trouble error={listeners.error} />
      {listeners.isPending && <Loading lines={4} />}
      {listeners.data && (
        <Table<Listener>
          size="small"
          rowKey="address"
          {...longTable(all.length)}

          dataSource={all}
          locale={{ emptyText: 'Here every address that takes requests or connections has a line.' }}
          columns={[
            {
              title: 'Listener',
              sorter: (a, b) => a.address.localeCompare(b.address),
              render: (_, l) => <Link to={`/listeners/${encodeURIComponent(l.address)}`}>{l.address}</Link>,
            },
            { title: 'Protocol', render: (_, l) => l.protocol + (l.http2 ? ', HTTP/2' : '') },
            { title: 'Connections', align: 'right', render: (_, l) => l.connections.toLocaleString() },
            { title: 'Requests', align: 'right', render: (_, l) => l.requests.toLocaleString() },
            {
              title: 'Refused',
              align: 'right',
              render: (_, l) => (
                <span className={l.refused > 0 ? 'waiting' : ''}>{l.refused.toLocaleString()}</span>
              ),
            },
            {
              title: 'Now',
              render: (_, l) => (
                <span className={l.trouble ? 'trouble' : ''}>{(l.trouble ? '▲ ' : '') + l.sentence}</span>
              ),
            },
          ]}
        />
      )}
      {making && <ListenerForm onClose={() => setMaking(false)} />}
    </Page>
  )
}
