import { Button } from 'antd'
import { useDeferredValue } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Group } from '../api/client'
import { useGroups, useHeadline } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { useChoice } from '../parts/address'
import { Bounds, ZoneBars } from '../parts/Bars'
import { Pick } from '../parts/Choice'
import { rank, stands, wantsSomebody } from '../parts/condition'
import { useTitle } from '../parts/title'
import { Search } from '../parts/Search'
import { Trouble } from '../parts/Trouble'
import { count, here } from '../parts/words'

/** How many groups there are before they are searched and drawn in short. */
const few = 8

/** What needs a person, what is going on, and then all groups. */
export function Groups() {
  const groups = useGroups()
  const headline = useHeadline()
  const navigate = useNavigate()
  const [text, setText] = useChoice('find')
  const [state, setState] = useChoice('stands')
  const wanted = useDeferredValue(text)
  const all = groups.data ?? []
  const bad = all.filter(wantsSomebody)
  useTitle(
    groups.data
      ? bad.length > 0
        ? `▲ ${bad.length} of ${all.length} groups`
        : count(all.length, 'group')
      : 'Groups',
  )
  const shown = all
    .filter((g) => (state === '' || stateOf(g) === state) && matches(g, wanted))
    .sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name))
  return (
    <Page>
      <div className="row">
        <h1 className={bad.length > 0 ? 'sentence trouble' : 'sentence'} data-testid="headline">
          {headline ?? ' '}
        </h1>
        <span style={{ flex: 1 }} />
        <Button type="primary" onClick={() => void navigate('/new-group')}>
          Make one…
        </Button>
      </div>
      <Trouble error={groups.error} />
      {groups.isPending && <Loading lines={6} />}
      {groups.data?.length === 0 && <NoGroups />}
      <Needs groups={all} />
      {all.length > few && (
        <div className="filters">
          <Search
            label="Search groups"
            hint="A name, template, pool, or label such as env=trial"
            value={text}
            onChange={setText}
          />
          <Pick
            label="How they stand"
            value={state}
            onChange={setState}
            options={[
              { value: '', label: 'All' },
              { value: 'out', label: 'nothing serves' },
              { value: 'short', label: 'serves too little' },
              { value: 'person', label: 'waits for a person' },
              { value: 'moving', label: 'something moves' },
              { value: 'whole', label: 'whole' },
            ]}
          />
          <span className="quiet">
            {shown.length} of {count(all.length, 'group')}
          </span>
        </div>
      )}
      {all.length > 0 && shown.length === 0 && <p className="quiet">No group is like that.</p>}
      {shown.map((g) =>
        all.length > few ? <GroupLine key={g.name} group={g} /> : <GroupRow key={g.name} group={g} />,
      )}
    </Page>
  )
}

const stateOf = (g: Group) =>
  g.summary.condition !== 'down' && g.summary.condition !== 'short' && g.summary.needs.length > 0
    ? 'person'
    : g.summary.condition

/** Whether the group has all the words that are looked for, in any of its names and labels. */
function matches(g: Group, text: string): boolean {
  const names = [g.name, g.template, ...g.pools, ...Object.entries(g.labels).map(([k, v]) => `${k}=${v}`)]
  return text
    .split(/\s+/)
    .filter(Boolean)
    .every((word) => names.some((n) => n.includes(word)))
}

/** What waits for a person, over all groups. */
function Needs({ groups }: { groups: Group[] }) {
  const asking = groups.filter((g) => g.summary.needs.length > 0)
  if (asking.length === 0) return null
  return (
    <section className="needs" aria-label="What needs a person">
      {asking.slice(0, 10).flatMap((g) =>
        g.summary.needs.map((n) => (
          <p
            key={g.name + n}
            className={g.frozen !== '' && g.summary.needs.length === 1 ? 'waiting' : 'trouble'}
          >
            {g.frozen !== '' && g.summary.needs.length === 1 ? '❚❚' : '▲'}{' '}
            <Link to={`/groups/${g.name}`}>{g.name}</Link>: {n}
          </p>
        )),
      )}
      {asking.length > 10 && <p className="quiet">And {count(asking.length - 10, 'group')} more, below.</p>}
    </section>
  )
}

function NoGroups() {
  return (
    <p className="quiet">
      Here every group has a row with its instances by zone. Make the first one here, or with{' '}
      <code>unitas group create --interactive</code>.
    </p>
  )
}

/** How many serve, unmistakable when they are too few. */
function Figure({ group: g }: { group: Group }) {
  const { mark, word, tone } = stands[g.summary.condition]
  return (
    <>
      <div className={`figure ${tone || (g.summary.serving < g.size ? 'waiting' : '')}`}>
        {tone && `${mark} `}
        {g.summary.serving} of {g.size}
      </div>
      <div className={tone || 'quiet'}>{tone ? word : 'serving'}</div>
    </>
  )
}

function GroupRow({ group }: { group: Group }) {
  return (
    <section className={`group-row stands-${group.summary.condition}`} aria-label={group.name}>
      <div>
        <h2 className="name">
          <Link to={`/groups/${group.name}`}>{group.name}</Link>
        </h2>
        <div className="quiet">{group.template}</div>
      </div>
      <div>
        <div style={{ marginBottom: 10 }}>{here(group.summary.sentence)}</div>
        <ZoneBars group={group} mix />
      </div>
      <div className="right">
        <Figure group={group} />
        <div className="quiet">
          between {group.min} and {group.max}
        </div>
        <Bounds group={group} />
      </div>
    </section>
  )
}

/** A group in short, where there are many. */
function GroupLine({ group: g }: { group: Group }) {
  const { mark, tone } = stands[g.summary.condition]
  return (
    <section className={`group-line stands-${g.summary.condition}`} aria-label={g.name}>
      <Link to={`/groups/${g.name}`}>{g.name}</Link>
      <span className={`right ${tone}`}>
        {mark} {g.summary.serving} of {g.size}
      </span>
      <span className="cut" title={g.summary.sentence}>
        {here(g.summary.sentence)}
      </span>
    </section>
  )
}
