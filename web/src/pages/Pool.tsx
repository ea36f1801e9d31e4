import { Button } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { type Pool as PoolOf } from '../api/client'
import { useDeletePool } from '../api/keeping'
import { usePool, isMissing } from '../api/queries'
import { later } from '../parts/later'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Listeners, Targets, VersionWindows } from '../parts/PoolTraffic'
import { ejectWords, poolLimitWords, protocolWords, affinityWords } from '../parts/spokenSettings'
import { Remove } from '../parts/Remove'
import { sharesText, weightsText } from '../parts/poolSettings'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { list, span } from '../parts/words'

const ChangePool = later(async () => (await import('../parts/PoolForm')).ChangePool)

/** Whether requests that come to it now find nobody. */
const sendsNowhere = (p: PoolOf) => !p.targets.some((t) => t.open)

/** One pool: is it well, who gets requests, how they are answered, its settings. */
export function Pool() {
  const name = useParams().name ?? ''
  const pool = usePool(name)
  const remove = useDeletePool()
  const navigate = useNavigate()
  useTitle(pool.data ? poolTitle(pool.data) : name)
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
      {sendsNowhere(p) && (
        <div className="band trouble" role="alert" data-testid="band">
          ■ Nobody gets requests:{' '}
          {p.targets.length === 0
            ? 'the pool has no targets'
            : `none of its ${String(p.targets.length)} targets is healthy`}
          .
        </div>
      )}
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
        {p.groups.length === 0 ? (
          <Remove
            name={p.name}
            goes={`${p.listeners.length > 0 ? `${list(p.listeners.map((l) => l.address))} ${p.listeners.length === 1 ? 'is' : 'are'} closed, and the` : 'The'} pool goes with its settings.`}
            onRemove={() => remove.mutate(p, { onSuccess: () => void navigate('/pools') })}
          />
        ) : (
          <span className="quiet">
            It can be removed once {list(p.groups)} {p.groups.length === 1 ? 'names' : 'name'} it no more.
          </span>
        )}
      </div>
      <Trouble error={remove.error} />
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
      <dt>Algorithm</dt>
      <dd>
        {p.algorithm === 'least-busy'
          ? 'least-busy: the target with the fewest requests in flight for its weight'
          : 'round-robin: the next in turn, by weight'}
      </dd>
      <dt>When none is healthy</dt>
      <dd>
        {p.when_none_healthy === 'refuse'
          ? 'refuse: 503 at once'
          : 'try-all: those that are unhealthy are tried'}
      </dd>
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
      <dt>Protocol</dt>
      <dd>{protocolWords(p)}</dd>
      <dt>Affinity</dt>
      <dd>{affinityWords(p)}</dd>
      <dt>Ejects</dt>
      <dd>{ejectWords(p)}</dd>
      <dt>Limits</dt>
      <dd>{poolLimitWords(p)}</dd>
      <dt>Weights</dt>
      <dd>{weightsText(p) || 'all 100'}</dd>
    </dl>
  )
}

function poolTitle(p: PoolOf): string {
  const open = p.targets.filter((t) => t.open).length
  return `${open === 0 ? '■ ' : open < p.targets.length ? '▲ ' : ''}${String(open)}/${String(p.targets.length)} ${p.name}`
}
