import { memo } from 'react'
import { Link } from 'react-router'
import { usePool } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Listeners, Targets, VersionWindows } from '../parts/PoolTraffic'
import { Trouble } from '../parts/Trouble'

/** What the pools of a group send it. */
export const Traffic = memo(function Traffic({ pools, group }: { pools: string[]; group: string }) {
  if (pools.length === 0)
    return <p className="quiet">The group names no pool, so nothing sends it requests through Unitas.</p>
  return pools.map((name) => <PoolView key={name} name={name} group={group} />)
})

function PoolView({ name, group }: { name: string; group: string }) {
  const pool = usePool(name)
  const p = pool.data
  if (!p) return pool.error ? <Trouble error={pool.error} /> : <Loading lines={3} />
  return (
    <>
      <p>
        <Link to={`/pools/${p.name}`}>{p.name}</Link>, judged by {p.check}: {p.sentence}
      </p>
      <Listeners pool={p} />
      <Targets pool={p} group={group} />
      <div style={{ height: 12 }} />
      <VersionWindows pool={p} />
    </>
  )
}
