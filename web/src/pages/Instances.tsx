import { Skeleton } from 'antd'
import { useInstances } from '../api/queries'
import { useNow } from '../parts/now'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { InstanceTable } from './InstanceTable'

/** The instances that belong to no group: launched by a person, or released. */
export function Instances() {
  const instances = useInstances(undefined, true)
  const now = useNow()
  const all = instances.data ?? []
  return (
    <main className="page">
      <p className="sentence" data-testid="sentence" aria-live="polite">
        {instances.data ? sentence(all.length) : ' '}
      </p>
      <Trouble error={instances.error} />
      {instances.isPending && <Skeleton active paragraph={{ rows: 4 }} />}
      {all.length > 0 && <InstanceTable instances={all} now={now} alone />}
      {instances.data && (
        <p className="quiet">
          Nothing heals or replaces them, and no pool sends them requests. They come from{' '}
          <code>unitas instance launch</code>, or from a group that released them. Those of groups are on the
          pages of their groups.
        </p>
      )}
    </main>
  )
}

function sentence(n: number): string {
  if (n === 0) return 'Every instance belongs to a group.'
  return `${count(n, 'instance')} ${n === 1 ? 'belongs' : 'belong'} to no group.`
}
