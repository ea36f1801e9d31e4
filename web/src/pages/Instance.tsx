import { Button, Input } from 'antd'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { type Instance as InstanceOf } from '../api/client'
import { useBootLog, useInstance, useLife, useRun } from '../api/instance'
import { isMissing, useGroup } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { actsOf, useInstanceActs } from '../parts/InstanceActs'
import { useNow } from '../parts/now'
import { useTitle } from '../parts/title'
import { ShellOn } from '../parts/ShellOn'
import { Trouble } from '../parts/Trouble'
import { VerdictWord } from '../parts/VerdictWord'
import { exact, secondsBetween, size, span } from '../parts/words'
import { Entries } from './Journal'

/** One instance: is it well, what its checks heard, what its machine wrote, what was. */
export function Instance() {
  const id = useParams().id ?? ''
  const read = useInstance(id)
  const now = useNow()
  const i = read.data
  const group = useGroup(i?.group ?? '')
  const { act, dialog, busy } = useInstanceActs(() => group.data?.summary.serving)
  useTitle(i ? `${i.verdict === 'unhealthy' ? '▲ ' : ''}${i.id} ${i.state}` : id)
  if (isMissing(read.error))
    return (
      <Page>
        <h1 className="sentence">There is no instance {id}.</h1>
        <Link to="/instances">All instances</Link>
      </Page>
    )
  if (!i)
    return (
      <Page>
        <Trouble error={read.error} />
        <Loading lines={8} />
      </Page>
    )
  const over = i.state === 'gone' || i.state === 'lost'
  return (
    <Page>
      <h1>{i.id}</h1>
      <p
        className={
          i.verdict === 'unhealthy' || i.overdue || i.state === 'lost' ? 'sentence trouble' : 'sentence'
        }
        data-testid="sentence"
      >
        {sentence(i, now)}
      </p>
      <Trouble error={read.error} />
      {dialog}
      <div className="row" style={{ marginBottom: 12 }}>
        {actsOf(i).map((a) => (
          <Button
            key={a.key}
            size="small"
            danger={a.key === 'retire'}
            loading={busy(i.id)}
            title={a.label}
            onClick={() => act([i], a.key)}
          >
            {a.label.split(':')[0]}
            {a.label.includes(':') && a.key !== 'pin' && a.key !== 'unpin' && '…'}
          </Button>
        ))}
      </div>
      <div className="two">
        <section>
          <h2>What it is</h2>
          <Facts instance={i} />
        </section>
        <section>
          <h2>Answers of its checks</h2>
          <Answers instance={i} now={now} />
        </section>
      </div>
      <h2>Boot log</h2>
      <BootLog id={i.id} writes={!over} />
      {!over && (
        <>
          <h2>Shell</h2>
          <ShellOn id={i.id} />
          <h2>Run a command</h2>
          <Run id={i.id} />
        </>
      )}
      <h2>Journal</h2>
      <Life id={i.id} />
    </Page>
  )
}

function sentence(i: InstanceOf, now: number): string {
  const where = i.group === '' ? 'It belongs to no group' : `Of the group ${i.group}`
  const verdict = i.state === 'gone' || i.state === 'lost' || i.reports.length === 0 ? '' : `, ${i.verdict}`
  return `${where}: ${i.state}${verdict} for ${span(secondsBetween(i.since, now))}, because ${i.why}.`
}

function Facts({ instance: i }: { instance: InstanceOf }) {
  const [name, version] = i.version.split('@')
  const purpose = {
    size: 'the size',
    healing: 'healing',
    balance: 'balance between zones',
    rollout: 'a rollout',
    person: 'a person',
  }
  const labels = Object.entries(i.launched_with?.labels ?? i.labels)
  return (
    <dl className="facts">
      {i.group !== '' && (
        <>
          <dt>group</dt>
          <dd>
            <Link to={`/groups/${i.group}`}>{i.group}</Link>, slot {i.slot}
          </dd>
        </>
      )}
      <dt>zone</dt>
      <dd>{i.zone}</dd>
      <dt>template</dt>
      <dd>
        <Link to={`/templates/${name ?? ''}?version=${version ?? ''}`}>{i.version}</Link>
      </dd>
      {i.launched_with && (
        <>
          <dt>image</dt>
          <dd>
            {i.launched_with.image}
            {i.image !== '' && ", in place of the template's"}
          </dd>
          <dt>machine</dt>
          <dd>
            {i.launched_with.cpus} {i.launched_with.cpus === 1 ? 'processor' : 'processors'},{' '}
            {size(i.launched_with.memory_bytes)} of memory, listens on port {i.launched_with.port}
          </dd>
        </>
      )}
      <dt>address</dt>
      <dd>{i.address}</dd>
      <dt>launched for</dt>
      <dd>
        {purpose[i.purpose]}
        {i.launch > 1 && `; this is its machine number ${i.launch}`}
      </dd>
      <dt>ordered</dt>
      <dd>
        <Ago at={i.ordered_at} />
        {i.served_at && `, and served ${span(secondsBetween(i.ordered_at, Date.parse(i.served_at)))} later`}
        {!i.served_at && i.usual_seconds !== undefined && `; its kind usually takes ${span(i.usual_seconds)}`}
      </dd>
      <dt>in flight</dt>
      <dd>{i.in_flight} requests</dd>
      {i.awaits && (
        <>
          <dt>fresh machine</dt>
          <dd>asked for; its turn comes once all others of the group serve</dd>
        </>
      )}
      <dt>pinned</dt>
      <dd>{i.pinned ? 'yes: nothing removes it, and its group cannot be deleted' : 'no'}</dd>
      {labels.length > 0 && (
        <>
          <dt>labels</dt>
          <dd>{labels.map(([k, v]) => `${k}=${v}`).join(', ')}</dd>
        </>
      )}
    </dl>
  )
}

/** How many of the last answers of a check are shown, the newest first. */
const shownAnswers = 6

function Answers({ instance: i, now }: { instance: InstanceOf; now: number }) {
  if (i.reports.length === 0) return <p className="quiet">No check asks it.</p>
  return i.reports.map((r) => (
    <section key={r.check} aria-label={r.check}>
      <p>
        {r.check} says <VerdictWord verdict={r.verdict} />
        {r.since && ` for ${span(secondsBetween(r.since, now))}`}: {r.why}
      </p>
      {r.answers && r.answers.length > 0 && (
        <table className="beside">
          <thead>
            <tr>
              <th>At</th>
              <th className="right">Took</th>
              <th>Answer</th>
              <th>What came back</th>
            </tr>
          </thead>
          <tbody>
            {r.answers
              .slice(-shownAnswers)
              .reverse()
              .map((a) => (
                <tr key={a.at}>
                  <td title={exact(a.at)}>
                    {new Date(a.at).toLocaleTimeString(undefined, { hour12: false })}
                  </td>
                  <td className="right">{a.took_ms.toFixed(1)} ms</td>
                  <td className={a.good ? '' : 'trouble'}>{a.good ? '● good' : '▲ bad'}</td>
                  <td>{a.why}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
    </section>
  ))
}

function BootLog({ id, writes }: { id: string; writes: boolean }) {
  const log = useBootLog(id, writes)
  if (log.error) return <p className="quiet">{log.error.message}</p>
  if (log.data === undefined) return <Loading lines={2} />
  return (
    <pre className="log" tabIndex={0} aria-label="Boot log" data-testid="boot-log">
      {log.data || 'It wrote nothing.'}
    </pre>
  )
}

/** A command on its machine; the words are split at blanks, as no shell reads them. */
function Run({ id }: { id: string }) {
  const run = useRun(id)
  const [text, setText] = useState('')
  const words = text.trim().split(/\s+/).filter(Boolean)
  return (
    <>
      <form
        className="row"
        onSubmit={(e) => {
          e.preventDefault()
          if (words.length > 0) run.mutate(words)
        }}
      >
        <Input
          style={{ width: 420 }}
          aria-label="Command"
          placeholder="ls -l"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Button htmlType="submit" loading={run.isPending} disabled={words.length === 0}>
          Run it
        </Button>
        <span className="quiet">As its workload's user; who ran what is in the journal.</span>
      </form>
      <Trouble error={run.error} />
      {run.data && (
        <>
          <p className={run.data.status === 0 ? 'quiet' : 'trouble'} role="status">
            {run.data.status === 0
              ? `It ended well after ${span(run.data.took_seconds)}.`
              : `▲ ${run.data.why ?? `It ended with status ${run.data.status}`}`}
            {run.data.truncated && ' Only the first 256 KiB are shown.'}
          </p>
          <pre className="log" tabIndex={0} aria-label="What it wrote">
            {run.data.output || 'It wrote nothing.'}
          </pre>
        </>
      )}
    </>
  )
}

function Life({ id }: { id: string }) {
  const life = useLife(id)
  return (
    <>
      <Trouble error={life.error} />
      <Entries entries={life.data?.items ?? []} />
    </>
  )
}
