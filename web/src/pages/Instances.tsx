import type { Instance } from '../api/client'
import { useInstances } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count } from '../parts/words'
import { InstanceTable } from './InstanceTable'

/** All instances, of all groups and of none. */
export function Instances() {
  const instances = useInstances()
  const all = instances.data ?? []
  useTitle(instances.data ? count(all.length, 'instance') : 'Instances')
  return (
    <Page>
      <h1 className="sentence" data-testid="sentence">
        {instances.data ? sentence(all) : ' '}
      </h1>
      <Trouble error={instances.error} />
      {instances.isPending && <Loading lines={4} />}
      {all.length > 0 && <InstanceTable instances={all} grouped />}
      {instances.data && (
        <p className="quiet">
          Those of no group come from <code>unitas instance launch</code>, or from a group that released them.
          Nothing heals or replaces them, and no pool sends them requests.
        </p>
      )}
    </Page>
  )
}

function sentence(all: Instance[]): string {
  if (all.length === 0) return 'There are no instances.'
  const serving = all.filter((i) => i.state === 'serving').length
  const ill = all.filter((i) => i.verdict === 'unhealthy' || i.overdue).length
  const alone = all.filter((i) => i.group === '').length
  const said = [`${serving} of ${count(all.length, 'instance')} serving`]
  if (ill > 0) said.push(`${ill} unhealthy`)
  said.push(
    alone === 0
      ? 'every one belongs to a group'
      : `${alone} ${alone === 1 ? 'belongs' : 'belong'} to no group`,
  )
  return said.join('; ') + '.'
}
