import { Button } from 'antd'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Group, Instance, Template as TemplateOf } from '../api/client'
import { useTemplateDiff, useTemplates } from '../api/catalogue'
import { useGroups, useInstances } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Pick } from '../parts/Choice'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { Changes, LineDiff } from '../parts/Changes'
import { Marks } from '../parts/Marks'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { VersionActs } from '../parts/VersionActs'
import { count, list, size } from '../parts/words'

/** One template: its line of versions, any two compared, and what the latest says. */
export function Template() {
  const { name = '' } = useParams()
  useTitle(name)
  const templates = useTemplates(name)
  const instances = useInstances()
  const groups = useGroups()
  const versions = templates.data
  if (!versions) {
    return (
      <Page>
        <Trouble error={templates.error} />
        <Loading lines={10} />
      </Page>
    )
  }
  const latest = versions[0]
  if (!latest) {
    return (
      <Page>
        <h1 className="sentence">There is no template {name}.</h1>
        <Link to="/templates">All templates</Link>
      </Page>
    )
  }
  const its = (groups.data ?? []).filter((g) => g.template.startsWith(`${name}@`))
  return (
    <Page>
      <div className="row">
        <h1>{name}</h1>
        <span style={{ flex: 1 }} />
        <Link to={`/templates/${name}/revise`}>
          <Button type="primary">Make the next version</Button>
        </Link>
      </div>
      <p className="sentence" data-testid="sentence">
        {count(versions.length, 'version')}, the latest launches {latest.image}.{' '}
        {its.length > 0 &&
          `The ${its.length === 1 ? 'group' : 'groups'} ${list(its.map((g) => g.name))} ${its.length === 1 ? 'launches' : 'launch'} it.`}
      </p>
      <Trouble error={templates.error} />
      <Line versions={versions} instances={instances.data ?? []} groups={its} />
      {versions.length > 1 && (
        <Compare key={versions.length} name={name} numbers={versions.map((t) => t.version)} />
      )}
      <h2>
        What {name}@{latest.version} says
      </h2>
      <Facts template={latest} />
    </Page>
  )
}

/** The versions from the first to the latest, with notes and what runs on each. */
function Line(props: { versions: TemplateOf[]; instances: Instance[]; groups: Group[] }) {
  const { versions, instances, groups } = props
  return (
    <ol className="line" aria-label="versions">
      {versions.toReversed().map((t) => {
        const running = instances.filter((i) => i.version === `${t.name}@${t.version}`).length
        const launching = groups.filter((g) => g.template === `${t.name}@${t.version}`)
        return (
          <li key={t.version} className={running > 0 ? 'runs' : ''}>
            <span className="stop">{t.version}</span>
            <Marks marks={t.marks} />
            <div>{t.note || <span className="quiet">no note</span>}</div>
            <div className="quiet">
              <Link to={`/images/${t.image.replace('@', '/')}`}>{t.image}</Link>, <Ago at={t.created_at} />
            </div>
            {t.revised_from !== undefined && t.revised_from !== t.version - 1 && (
              <div className="quiet">from version {t.revised_from}</div>
            )}
            {t.state === 'withdrawn' && (
              <div className="waiting">
                ⊘ withdrawn: {t.why}
                {t.successor && `; use ${t.successor}`}
              </div>
            )}
            <div>
              {running > 0 ? count(running, 'instance') : <span className="quiet">nothing runs on it</span>}
              {launching.length > 0 && (
                <>
                  , launched by{' '}
                  {launching.map((g, k) => (
                    <span key={g.name}>
                      {k > 0 && ', '}
                      <Link to={`/groups/${g.name}`}>{g.name}</Link>
                    </span>
                  ))}
                </>
              )}
            </div>
            <VersionActs
              kind="template"
              version={t}
              meanwhile={running > 0 ? `${count(running, 'instance')} run on it.` : 'Nothing runs on it.'}
              goes="It goes for good. Its image and its journal stay."
              onDeleted={() => undefined}
            />
          </li>
        )
      })}
    </ol>
  )
}

function Compare({ name, numbers }: { name: string; numbers: number[] }) {
  const [was, setWas] = useState(numbers[1] ?? 1)
  const [now, setNow] = useState(numbers[0] ?? 1)
  const diff = useTemplateDiff(name, was, now)
  const options = numbers.map((n) => ({ value: n, label: `${name}@${n}` }))
  return (
    <>
      <h2>Compare</h2>
      <div className="filters">
        <Pick label="version before" value={was} options={options} onChange={setWas} />
        <span>→</span>
        <Pick label="version after" value={now} options={options} onChange={setNow} />
      </div>
      <Trouble error={diff.error} />
      {was === now && <p className="quiet">These are the same version.</p>}
      {diff.data && was !== now && (
        <>
          <Changes changes={diff.data.changes} was={diff.data.from} now={diff.data.to} />
          <LineDiff lines={diff.data.user_data} was={diff.data.from} now={diff.data.to} />
        </>
      )}
    </>
  )
}

/** Everything that one launch of a version needs. */
export function Facts({ template: t }: { template: TemplateOf }) {
  const pairs = (m: Record<string, string>) =>
    Object.entries(m)
      .map(([k, v]) => `${k}=${v}`)
      .join(', ') || 'none'
  return (
    <dl className="facts">
      <dt>Image</dt>
      <dd>{t.image}</dd>
      <dt>CPUs</dt>
      <dd>{t.cpus}</dd>
      <dt>Memory</dt>
      <dd>{size(t.memory_bytes)}</dd>
      <dt>Disk</dt>
      <dd>{size(t.disk_bytes)}</dd>
      <dt>Processes</dt>
      <dd>{t.processes} at most</dd>
      <dt>Addresses</dt>
      <dd>{t.addresses}</dd>
      <dt>Workload port</dt>
      <dd>{t.port}</dd>
      <dt>Open ports</dt>
      <dd>
        {t.ports.length === 0
          ? 'none'
          : t.ports.map((p) => (
              <div key={`${p.port}/${p.protocol}`}>
                {p.port}/{p.protocol} from {list(p.sources ?? [])}
              </div>
            ))}
      </dd>
      <dt>Price</dt>
      <dd>{t.price_per_hour > 0 ? `${t.price_per_hour} per hour` : 'none given'}</dd>
      <dt>Interruptible</dt>
      <dd>{t.interruptible ? 'yes' : 'no'}</dd>
      <dt>Environment</dt>
      <dd>{pairs(t.environment)}</dd>
      <dt>Labels</dt>
      <dd>{pairs(t.labels)}</dd>
      <dt>User data</dt>
      <dd>{t.user_data ? <pre className="log">{t.user_data}</pre> : 'none'}</dd>
    </dl>
  )
}
