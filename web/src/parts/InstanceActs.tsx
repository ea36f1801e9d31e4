import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { useImageFromInstance } from '../api/catalogue'
import type { Instance } from '../api/client'
import { useTellInstances, type InstanceAct } from '../api/queries'
import { later } from './later'
import { Trouble } from './Trouble'
import { count } from './words'

const AskFirst = later(async () => (await import('./AskFirst')).AskFirst)

export type Act = InstanceAct | 'recreate-now' | 'live' | 'rest'

interface Grave {
  verb: string
  says: (n: number) => string
  alone?: (n: number) => string
}

/** What stops or removes machines is asked for once, with what it does. */
const grave: Partial<Record<Act, Grave>> = {
  retire: {
    verb: 'Retire',
    says: (n) =>
      `${n === 1 ? 'It drains, its machine stops, and its files go' : 'They drain, their machines stop, and their files go'}. The group launches ${n === 1 ? 'another' : 'others'}. Journals stay.`,
    alone: (n) =>
      `${n === 1 ? 'Its machine stops, and its files go' : 'Their machines stop, and their files go'}. Nothing takes the place. Journals stay.`,
  },
  recreate: {
    verb: 'Recreate',
    says: (n) =>
      `${n === 1 ? 'Once all others of its group serve it drains, its machine and files go, and a fresh one comes under its name' : 'One after another, each once all others of its group serve, they drain, their machines and files go, and fresh ones come under their names'}. Nothing takes the place meanwhile.`,
  },
  'recreate-now': {
    verb: 'Recreate',
    says: (n) =>
      `${n === 1 ? 'It drains at once, its machine and files go, and a fresh one comes under its name' : 'All drain at the same time, their machines and files go, and fresh ones come under their names'}. Nothing takes the place meanwhile.`,
  },
  release: {
    verb: 'Release',
    says: (n) =>
      `${n === 1 ? 'It leaves the group and its pools for good, and runs on' : 'They leave the group and its pools for good, and run on'}. The group launches ${n === 1 ? 'another' : 'others'}.`,
  },
}

/** What takes serving instances out of traffic is asked for too, when it is for many. */
const takesOut: Act[] = ['retire', 'recreate-now', 'release', 'park']

interface Asked {
  act: Act
  on: Instance[]
}

/**
 * Tells instances what a person wants of them. What stops machines, or takes more than one
 * out of traffic, is asked for once, with a reason that the journal keeps.
 */
export function useInstanceActs(serving: (group: string) => number | undefined) {
  const make = useImageFromInstance()
  const tell = useTellInstances()
  const navigate = useNavigate()
  const [asked, setAsked] = useState<Asked | null>(null)
  const [imaged, setImaged] = useState<{ of: Instance; rest: boolean } | null>(null)

  const all = (on: Instance[], act: Act, reason = '') =>
    tell.mutate({
      instances: on.map((i) => i.id),
      ...(act === 'recreate-now'
        ? { command: 'recreate' as const, at_once: true }
        : { command: act as InstanceAct }),
      launches: Object.fromEntries(on.map((i) => [i.id, i.launch])),
      ...(reason ? { reason } : {}),
    })
  const act = (on: Instance[], what: Act) => {
    const first = on[0]
    if (!first) return
    if (what === 'live' || what === 'rest') setImaged({ of: first, rest: what === 'rest' })
    else if (grave[what] || (on.length > 1 && takesOut.includes(what))) {
      setAsked({ act: what, on })
    } else all(on, what)
  }
  const doIt = (what: Asked, reason: string) => {
    all(what.on, what.act, reason)
    setAsked(null)
  }
  const dialog: ReactNode = (
    <>
      <Trouble error={make.error} />
      {imaged && (
        <AskFirst
          title={`Make an image of ${imaged.of.id}?`}
          verb="Make it"
          names={[]}
          grave={imaged.rest}
          does={
            imaged.rest
              ? 'It drains and stops, so that its files are at rest, and comes back once the image is made.'
              : 'It goes on serving meanwhile, so that files may be taken in the middle of a change.'
          }
          mind={imaged.rest ? outOfTraffic({ act: 'park', on: [imaged.of] }, serving) : []}
          asks="Name of the image; empty for that of the image it runs"
          onDo={(name) => {
            make.mutate(
              { instance: imaged.of.id, stop_first: imaged.rest, ...(name ? { name } : {}) },
              { onSuccess: (i) => void navigate(`/images/${i.name}/${i.version}`) },
            )
            setImaged(null)
          }}
          onClose={() => setImaged(null)}
        />
      )}
      {asked && (
        <AskFirst
          title={`${verbOf(asked.act)} ${asked.on.length === 1 ? (asked.on[0]?.id ?? '') : count(asked.on.length, 'instance')}?`}
          verb={`${verbOf(asked.act)} ${asked.on.length === 1 ? 'it' : 'them'}`}
          names={asked.on.length > 1 ? asked.on.map((i) => i.id) : []}
          does={whatItDoes(asked)}
          mind={outOfTraffic(asked, serving)}
          onDo={(reason) => doIt(asked, reason)}
          onClose={() => setAsked(null)}
        />
      )}
      <Trouble error={tell.error} />
      {tell.isPending && tell.variables.instances.length > 1 && (
        <p className="waiting" role="status">
          … {count(tell.variables.instances.length, 'instance')} are told
        </p>
      )}
      {tell.data && tell.data.refused.length > 0 && (
        <p className="trouble" role="alert">
          ▲{' '}
          {tell.variables.instances.length > 1 &&
            `${tell.data.refused.length} of ${tell.variables.instances.length} refused: `}
          {tell.data.refused
            .slice(0, 3)
            .map((r) => r.why)
            .join(' ')}
        </p>
      )}
    </>
  )
  const busy = (id: string) =>
    (make.isPending && make.variables.instance === id) ||
    (tell.isPending && tell.variables.instances.includes(id))
  return { act, dialog, busy }
}

const verbOf = (act: Act) => grave[act]?.verb ?? act.slice(0, 1).toUpperCase() + act.slice(1)

function whatItDoes({ act, on }: Asked): string {
  const says = grave[act]
  if (!says) return 'They go out of traffic and keep running; the group launches others.'
  const alone = on.every((i) => i.group === '')
  return (alone && says.alone ? says.alone : says.says)(on.length)
}

/** What goes out of traffic at once, by group. */
function outOfTraffic({ act, on }: Asked, serving: (group: string) => number | undefined): string[] {
  if (!takesOut.includes(act)) return []
  const groups = new Map<string, number>()
  for (const i of on)
    if (i.group !== '' && i.state === 'serving') groups.set(i.group, (groups.get(i.group) ?? 0) + 1)
  return [...groups].map(([group, n]) => {
    const of = serving(group)
    const goes = `${n === 1 ? 'goes' : 'go'} out of traffic at once`
    if (of === undefined) return `${n} of ${group} ${goes}.`
    return `${n} of the ${of} that serve in ${group} ${goes}${n >= of ? '; nothing of it serves then' : ''}.`
  })
}

/** What may be done with one that belongs to no group. */
function actsAlone(i: Instance): { key: Act; label: string }[] {
  return [
    i.pinned
      ? { key: 'unpin', label: 'Unpin: it may be removed again' }
      : { key: 'pin', label: 'Pin: nothing removes it' },
    { key: 'live', label: 'Make an image while it serves…' },
    ...(i.pinned ? [] : [{ key: 'retire', label: 'Retire: stop it for good' } as const]),
  ]
}

/** What may be done with an instance as it is. */
export function actsOf(i: Instance): { key: Act; label: string }[] {
  if (i.state !== 'serving' && i.state !== 'parked') return []
  if (i.group === '') return actsAlone(i)
  const retire = { key: 'retire', label: 'Retire: drain, stop, and launch another' } as const
  const keep = [
    { key: 'recreate', label: 'Recreate once all others serve: a fresh machine under its name' },
    { key: 'recreate-now', label: 'Recreate at once' },
    { key: 'release', label: 'Release: it runs on and belongs to nobody' },
  ] as const
  if (i.state === 'parked') return [{ key: 'unpark', label: 'Unpark: back into traffic' }, ...keep, retire]
  return [
    { key: 'park', label: 'Park: out of traffic, but kept' },
    i.pinned
      ? { key: 'unpin', label: 'Unpin: it may be removed again' }
      : { key: 'pin', label: 'Pin: nothing removes it' },
    ...keep,
    { key: 'live', label: 'Make an image while it serves' },
    { key: 'rest', label: 'Make an image at rest: it drains, stops, and comes back' },
    ...(i.pinned ? [] : [retire]),
  ]
}
