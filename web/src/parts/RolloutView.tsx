import { Button } from 'antd'
import { useState } from 'react'
import type { Group, Rollout, Wave } from '../api/client'
import { useRolloutRecord, useTellRollout } from '../api/queries'
import { useReplay } from '../api/rollouts'
import { Ago } from './Ago'
import { Findings } from './Findings'
import { Gates } from './Gates'
import { later } from './later'
import { Beside } from './Rehearsal'
import { Shown } from './Shown'
import { Tide } from './Tide'
import { Trouble } from './Trouble'
import { count, secondsBetween, span } from './words'
import { Table } from './Table'

const AskFirst = later(async () => (await import('./AskFirst')).AskFirst)

/** A rollout: how far it is, what it waits for, what its gates see, and what can be done. */
export function RolloutView({ group, rollout }: { group: Group; rollout: Rollout }) {
  const onNew = group.summary.versions.find((v) => v.version === rollout.to)
  const live = !rollout.ended_at
  return (
    <div data-testid="rollout" data-state={rollout.state}>
      <div className="row">
        <strong>
          {rollout.from} → {rollout.to}
        </strong>
        <span className={rollout.state === 'held' ? 'waiting' : ''}>
          {rollout.state === 'held' ? '■ ' : ''}
          {rollout.state}
        </span>
        <span className="quiet">
          rollout {rollout.number}, started <Ago at={rollout.started_at} /> by {rollout.started_by}
          {rollout.ended_at && <>, took {span(secondsBetween(rollout.started_at, rollout.ended_at))}</>}
          {rollout.left_seconds !== undefined && <>, about {span(rollout.left_seconds)} left</>}
        </span>
        <span style={{ flex: 1 }} />
        {!live && <Replay rollout={rollout} />}
        <SaveRecord rollout={rollout} />
        {live && <Commands group={group} rollout={rollout} />}
      </div>
      {live && (
        <Tide
          rollout={rollout}
          size={group.size}
          serving={onNew?.serving ?? 0}
          comingUp={onNew ? onNew.counted - onNew.serving : 0}
        />
      )}
      <p>
        {!live && `It is ${rollout.state}: ${rollout.why}.`}
        {live && (
          <span className="quiet">
            Up to {rollout.above} above and {rollout.below} below the size
            {rollout.pace === 'at-once' && '; all at once, and nobody need serve meanwhile'}
            {rollout.order !== 'mixed' && `; ${rollout.order}`}
            {rollout.hours && `; only ${rollout.hours}`}
            {rollout.course && `; by the course ${rollout.course}`}
            {rollout.exclude.length > 0 && `; without ${rollout.exclude.join(', ')}`}
            {rollout.goes_back &&
              `; a revert brings ${rollout.goes_back.map((s) => `${s.count} to ${s.version}`).join(', ')}`}
            .
          </span>
        )}{' '}
        {rollout.lowest_serving !== undefined && (
          <span className="quiet">
            At the lowest {rollout.lowest_serving} served{live && ' so far'}.
          </span>
        )}
      </p>
      <Beside rollout={rollout} />
      <Waves rollout={rollout} size={group.size} />
      <Gates gates={rollout.gates} />
      <Findings rollout={rollout} />
    </div>
  )
}

/** Saves the rollout as a record for a change ticket. */
function SaveRecord({ rollout }: { rollout: Rollout }) {
  const record = useRolloutRecord(rollout)
  return (
    <>
      <Trouble error={record.error} />
      <Button loading={record.isPending} onClick={() => record.mutate()}>
        Save as a record
      </Button>
    </>
  )
}

/** Decides a rollout that is over again, and tells whether it comes to the same. */
function Replay({ rollout }: { rollout: Rollout }) {
  const replay = useReplay(rollout)
  const found = replay.data
  return (
    <>
      <Trouble error={replay.error} />
      {found && (
        <span className={found.same < found.decisions ? 'trouble' : 'quiet'} data-testid="replay">
          {found.same < found.decisions && '▲ '}
          {found.sentence}
        </span>
      )}
      <Button loading={replay.isPending} onClick={() => replay.mutate()}>
        Decide again
      </Button>
    </>
  )
}

function Commands({ group, rollout }: { group: Group; rollout: Rollout }) {
  const tell = useTellRollout(rollout)
  const [asked, setAsked] = useState<'proceed' | 'revert' | null>(null)
  const held = rollout.state === 'held'
  const onNew = group.summary.versions.find((v) => v.version === rollout.to)?.counted ?? 0
  const does = {
    proceed: held
      ? 'It replaces instances again from where it stands; what failed before is tried once more.'
      : `What went back to ${rollout.from} is replaced by ${rollout.to} again.`,
    revert: `${count(onNew, 'instance')} on ${rollout.to} ${onNew === 1 ? 'drains and is' : 'drain and are'} stopped, and replaced by ${rollout.from}. Traffic goes on.`,
  }
  return (
    <>
      <Trouble error={tell.error} />
      {!held && (
        <Button
          loading={tell.isPending && tell.variables.command === 'hold'}
          onClick={() => tell.mutate({ command: 'hold' })}
        >
          Hold
        </Button>
      )}
      {(held || rollout.state === 'reverting') && (
        <Button onClick={() => setAsked('proceed')}>Proceed…</Button>
      )}
      {rollout.state !== 'reverting' && (
        <Button danger onClick={() => setAsked('revert')}>
          Revert…
        </Button>
      )}
      {asked && (
        <AskFirst
          title={asked === 'revert' ? `Revert to ${rollout.from}?` : `Go on to ${rollout.to}?`}
          verb={asked === 'revert' ? 'Revert' : 'Proceed'}
          names={[]}
          grave={asked === 'revert'}
          does={does[asked]}
          mind={asked === 'proceed' || held ? [`It is ${rollout.state}: ${rollout.why}.`] : []}
          onDo={(reason) => {
            tell.mutate({ command: asked, reason })
            setAsked(null)
          }}
          onClose={() => setAsked(null)}
        />
      )}
    </>
  )
}

function Waves({ rollout, size }: { rollout: Rollout; size: number }) {
  return (
    <Table<Wave & { key: number }>
      size="small"
      pagination={false}
      dataSource={rollout.waves.map((w, i) => ({ ...w, key: i + 1 }))}
      style={{ maxWidth: 760, marginBottom: 12 }}
      columns={[
        { title: 'Wave', dataIndex: 'key', align: 'right', width: 60 },
        { title: 'Given as', dataIndex: 'wave', align: 'right', width: 90 },
        { title: 'Goes to', align: 'right', render: (_, w) => `${w.up_to} of ${size}` },
        { title: 'State', render: (_, w) => <span data-wave={w.key}>{w.state}</span> },
        {
          title: 'Replaced in',
          align: 'right',
          render: (_, w) => <Shown>{(now) => replacedIn(w, now)}</Shown>,
        },
        { title: 'Soak', align: 'right', render: (_, w) => span(w.soak_seconds) },
        { title: 'Soaked', align: 'right', render: (_, w) => <Shown>{(now) => soaked(w, now)}</Shown> },
      ]}
    />
  )
}

function replacedIn(w: Wave, now: number): string {
  if (!w.started_at) return ''
  if (w.filled_at) return span(secondsBetween(w.started_at, w.filled_at))
  return w.state === 'replacing' ? `${span(secondsBetween(w.started_at, now))} …` : ''
}

function soaked(w: Wave, now: number): string {
  if (!w.filled_at) return ''
  if (w.passed_at) return span(secondsBetween(w.filled_at, w.passed_at))
  return w.state === 'soaking' ? `${span(secondsBetween(w.filled_at, now))} …` : ''
}
