import { Button } from 'antd'
import { useMemo, useState } from 'react'
import { Link, useParams } from 'react-router'
import { type Group as GroupOf, type Instance } from '../api/client'
import { useGroup, useInstances, useRollout, useTellGroup, isMissing } from '../api/queries'
import { useDeleteGroup } from '../api/keeping'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { Doubted } from '../parts/Doubted'
import { Wanted } from '../parts/Wanted'
import { ZoneBars } from '../parts/Bars'
import { later } from '../parts/later'
import { Hooks } from '../parts/Hooks'
import { Sizing } from '../parts/Sizing'
import { useOfNow } from '../parts/now'
import { ConditionBand, titleOf } from '../parts/condition'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count, here, list, secondsBetween } from '../parts/words'
import { Legend, ZoneRows } from '../parts/ZoneRows'
import { GroupSettings } from './GroupSettings'
import { Health } from './Health'
import { InstanceTable } from './InstanceTable'
import { Journal } from './Journal'
import { RolloutSection } from './RolloutSection'
import { Traffic } from './Traffic'
import { Sure } from '../parts/Sure'

const StartDrill = later(async () => (await import('../parts/StartDrill')).StartDrill)
const SlipField = later(async () => (await import('../parts/SlipField')).SlipField)
const Freeze = later(async () => (await import('../parts/Freeze')).Freeze)

/** One group: is it well, what is going on, who gets traffic, what was, its settings. */
export function Group() {
  const name = useParams().name ?? ''
  const group = useGroup(name)
  const instances = useInstances(name)
  const rollout = useRollout(name)
  useTitle(group.data ? titleOf(group.data) : name)
  const live = instances.data ?? none
  const names = useMemo(() => live.map((i) => i.id), [live])
  if (isMissing(group.error)) {
    return (
      <Page>
        <h1 className="sentence">There is no group {name}.</h1>
        <Link to="/">All groups</Link>
      </Page>
    )
  }
  const g = group.data
  if (!g) {
    return (
      <Page>
        <Trouble error={group.error} />
        <Loading lines={10} />
      </Page>
    )
  }
  return (
    <Page>
      <h1>{g.name}</h1>
      <ConditionBand group={g} />
      <p className="sentence" data-testid="sentence">
        {here(g.summary.sentence)}
      </p>
      <Trouble error={group.error ?? instances.error} />
      <Condition group={g} instances={names} />
      {g.advice.map((text) => (
        <p key={text} className="waiting">
          ▲ {here(text)}
        </p>
      ))}
      <Index />
      <div className={live.length <= few ? 'glance' : ''}>
        <section aria-label="Instances by zone">
          {live.length > many ? (
            <>
              <ZoneBars group={g} />
              <SlipField group={g} instances={live} />
            </>
          ) : (
            <ZoneRows group={g} instances={live} />
          )}
          <Legend group={g} instances={live} />
          <p className="quiet row">
            {g.zone_loss !== '' && `${upper(g.zone_loss)}.`} <Wanted group={g} />
          </p>
        </section>
        <section>
          <h2 id="rollout">Rollout</h2>
          <RolloutSection group={g} rollout={rollout.data ?? null} instances={names} />
          <Doubted group={g} />
        </section>
      </div>
      <h2 id="size">Size</h2>
      <Sizing group={g} />
      <h2 id="traffic">Traffic</h2>
      <Traffic pools={g.pools} group={g.name} />
      <h2 id="health">Health</h2>
      <Health group={g} instances={live} />
      <h2 id="hooks">Hooks</h2>
      <Hooks group={g} instances={names} />
      <h2 id="instances">Instances</h2>
      <InstanceTable instances={live} />
      <h2 id="journal">Journal</h2>
      <Journal group={name} />
      <h2 id="settings">Settings</h2>
      <GroupSettings group={g} />
      {!g.deleting && <Delete group={g} instances={live} />}
    </Page>
  )
}

const none: Instance[] = []

/** Up to how many slips leave room for the release beside them. */
const few = 24

/** Up to how many slips are elements; more are painted. */
const many = 500

const sections = ['Rollout', 'Size', 'Traffic', 'Health', 'Hooks', 'Instances', 'Journal', 'Settings']

const upper = (text: string) => text.slice(0, 1).toUpperCase() + text.slice(1)

/** A short index of the page that stays in view. */
function Index() {
  return (
    <nav className="index" aria-label="On this page">
      {sections.map((s) => (
        <a key={s} href={`#${s.toLowerCase()}`}>
          {s}
        </a>
      ))}
    </nav>
  )
}

/** The end of a group, asked for once with all that goes. */
function Delete({ group: g, instances }: { group: GroupOf; instances: Instance[] }) {
  const del = useDeleteGroup()
  const n = instances.length
  const pins = instances.filter((i) => i.pinned).map((i) => i.id)
  if (pins.length > 0)
    return (
      <p className="quiet" style={{ marginTop: 16 }}>
        The group cannot be deleted while {list(pins)} {pins.length === 1 ? 'is' : 'are'} pinned; unpin{' '}
        {pins.length === 1 ? 'it' : 'them'} first.
      </p>
    )
  return (
    <div className="row" style={{ marginTop: 16 }}>
      <Sure
        title={`Delete ${g.name}?`}
        description={`${count(n, 'instance')} in ${g.zones.join(', ')} ${n === 1 ? 'drains and stops' : 'drain and stop'}, ${g.pools.length > 0 ? `leave ${g.pools.join(', ')}, ` : ''}and the group goes. Its journal stays.`}
        okText="Delete it"
        okButtonProps={{ danger: true }}
        onConfirm={() => del.mutate(g)}
      >
        <Button danger size="small" loading={del.isPending}>
          Delete the group…
        </Button>
      </Sure>
      <Trouble error={del.error} />
    </div>
  )
}

/** Places that stay empty for a while. */
const waiting = (g: GroupOf, now: number) =>
  g.slots.filter((s) => !s.instance && (s.kept || secondsBetween(s.until_at, now) < 0))

/** A command to the group that is asked for, with a reason that the journal keeps. */
interface Asked {
  command: 'thaw' | 'heal'
  title: string
  verb: string
  does: string
}

const AskFirst = later(async () => (await import('../parts/AskFirst')).AskFirst)

/** What keeps the group from looking after itself, and the way out. */
function Condition({ group: g, instances }: { group: GroupOf; instances: string[] }) {
  const [drilling, setDrilling] = useState(false)
  const tell = useTellGroup(g)
  const [freezing, setFreezing] = useState(false)
  const [asked, setAsked] = useState<Asked | null>(null)
  const waits = useOfNow((now) => waiting(g, now).length)
  const kept = useOfNow((now) => waiting(g, now).some((s) => s.kept))
  return (
    <>
      {g.frozen !== '' && (
        <p className="waiting row">
          ❚❚ Frozen by {g.frozen_by} {g.frozen_at && <Ago at={g.frozen_at} />}: {g.frozen}. Nothing happens to
          it by itself.
          <Button
            size="small"
            loading={tell.isPending}
            onClick={() =>
              setAsked({
                command: 'thaw',
                title: `Thaw ${g.name}?`,
                verb: 'Thaw it',
                does: 'It is healed, launched, shed and rolled again; what it missed happens now.',
              })
            }
          >
            Thaw…
          </Button>
        </p>
      )}
      {g.healing_stopped_at && (
        <p className="trouble row">
          ▲ Healing stopped <Ago at={g.healing_stopped_at} />: more than {g.heal_limit_percent} % are
          unhealthy at once. The fault is likelier outside.
          <Button
            size="small"
            onClick={() =>
              setAsked({
                command: 'heal',
                title: 'Replace what is unhealthy now?',
                verb: 'Replace it',
                does: 'All of it at once, whatever the limit.',
              })
            }
          >
            Heal anyway…
          </Button>
        </p>
      )}
      {waits > 0 && (
        <p className="waiting row">
          ◌ {count(waits, 'slot')} {waits === 1 ? 'stays' : 'stay'} empty
          {kept ? ' since a machine vanished, for heal is off' : ' for a while after failures'}.
          <Button
            size="small"
            onClick={() =>
              setAsked({
                command: 'heal',
                title: `Fill ${waits === 1 ? 'it' : 'them'} now?`,
                verb: 'Fill',
                does: `${count(waits, 'instance')} of ${g.template} ${waits === 1 ? 'is' : 'are'} launched, as far as zones take machines.`,
              })
            }
          >
            Fill now…
          </Button>
        </p>
      )}
      {g.frozen === '' && !g.deleting && (
        <div className="row" style={{ marginBottom: 12 }}>
          <Button size="small" onClick={() => setFreezing(true)}>
            Freeze…
          </Button>
          <Button size="small" onClick={() => setDrilling(true)}>
            Drill…
          </Button>
        </div>
      )}
      {drilling && <StartDrill instances={instances} onClose={() => setDrilling(false)} />}
      <Trouble error={tell.error} />
      {asked && (
        <AskFirst
          title={asked.title}
          verb={asked.verb}
          names={[]}
          grave={false}
          does={asked.does}
          mind={asked.command === 'thaw' ? [`It was frozen by ${g.frozen_by ?? ''}: ${g.frozen}.`] : []}
          onDo={(reason) => {
            tell.mutate({ command: asked.command, ...(reason ? { reason } : {}) })
            setAsked(null)
          }}
          onClose={() => setAsked(null)}
        />
      )}
      {freezing && <Freeze group={g} onClose={() => setFreezing(false)} />}
    </>
  )
}
