import { Button, Form, Input } from 'antd'
import { Link } from 'react-router'
import { useTry, type Listener } from '../api/listeners'
import { headersOf } from './listenerSettings'
import { goodPairs, PairRows, type Pair } from './PairRows'
import { Trouble } from './Trouble'

interface Fields {
  url: string
  headers?: Pair[]
}

/** Tells where a request would go, and why; nothing is sent. */
export function TryRequest({ listener: l }: { listener: Listener }) {
  const trial = useTry()
  const t = trial.data
  return (
    <>
      <Form<Fields>
        layout="inline"
        initialValues={{ url: `${l.protocol}://${l.address}/` }}
        onFinish={(f) =>
          trial.mutate({
            url: f.url,
            listener: l.address,
            headers: headersOf(f.headers),
            caller: '127.0.0.1',
          })
        }
      >
        <Form.Item name="url" label="URL">
          <Input style={{ width: 320 }} />
        </Form.Item>
        <Form.Item name="headers" label="Headers" rules={[goodPairs]}>
          <PairRows what="header" id="try-headers" />
        </Form.Item>
        <Button size="small" htmlType="submit" loading={trial.isPending}>
          Where would it go?
        </Button>
      </Form>
      <Trouble error={trial.error} />
      {t && (
        <div aria-live="polite" className="tried">
          <p>
            {t.target ? (
              <>
                It gets <strong>{t.target}</strong> of <Link to={`/pools/${t.pool}`}>the pool {t.pool}</Link>
                {t.route > 0 ? `, by route ${t.route}` : ''}.
              </>
            ) : (
              <span className="trouble">▲ It is answered {t.status}.</span>
            )}
          </p>
          <ol className="plain">
            {t.why.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ol>
        </div>
      )}
    </>
  )
}
