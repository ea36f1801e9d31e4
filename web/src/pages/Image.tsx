import { Button, Progress } from 'antd'
import { useEffect, useRef } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useBakeLog, useImage, useCopy, useLineage, usePlaces } from '../api/catalogue'
import { type Copy, type Image as ImageOf } from '../api/client'
import { isMissing } from '../api/queries'
import { Loading } from '../parts/Loading'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { Lineage } from '../parts/Lineage'
import { Marks } from '../parts/Marks'
import { useNow } from '../parts/now'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { UsersOf } from '../parts/UsersOf'
import { VersionActs } from '../parts/VersionActs'
import { count, list, secondsBetween, size, span } from '../parts/words'

/** One image version: what it is, where it is, who uses it, where it comes from. */
export function Image() {
  const { name = '', version = '' } = useParams()
  useTitle(`${name}@${version}`)
  const image = useImage(name, version)
  const navigate = useNavigate()
  const i = image.data
  if (isMissing(image.error)) {
    return (
      <Page>
        <p className="sentence">
          There is no image {name}@{version}.
        </p>
        <Link to="/images">All images</Link>
      </Page>
    )
  }
  if (!i) {
    return (
      <Page>
        <Trouble error={image.error} />
        <Loading lines={10} />
      </Page>
    )
  }
  return (
    <Page>
      <h1>
        {i.name}@{i.version}
        <Marks marks={i.marks} />
      </h1>
      <p className="sentence" data-testid="sentence" aria-live="polite">
        {sentence(i)}
      </p>
      <Trouble error={image.error} />
      <VersionActs
        kind="image"
        version={i}
        meanwhile={uses(i)}
        goes={`It goes for good, ${i.digest ? size(i.size_bytes) : 'with its log'}. Layers that others share stay, and so does its journal.`}
        onDeleted={() => void navigate('/images')}
      />
      <h2>Places</h2>
      <Places image={i} />
      <h2>Used by</h2>
      <UsersOf users={i.users} />
      <h2>Lineage</h2>
      <Ancestors image={i} />
      <Making image={i} />
      <h2>Facts</h2>
      <Facts image={i} />
    </Page>
  )
}

function sentence(i: ImageOf): string {
  switch (i.state) {
    case 'baking':
      return `Being made: ${i.step}.`
    case 'broken':
      return `Broken at ${i.step}: ${i.why}.`
    case 'withdrawn':
      return `Withdrawn: ${i.why}.${i.successor ? ` Use ${i.successor} instead.` : ''} ${uses(i)}`
    default:
      return `Ready in ${list(i.places.map((p) => p.region))}. ${uses(i)}`
  }
}

function uses(i: ImageOf): string {
  const u = i.users
  const parts = [
    u && u.groups.length > 0 ? count(u.groups.length, 'group') : '',
    u && u.instances.length > 0 ? count(u.instances.length, 'instance') : '',
  ].filter(Boolean)
  if (parts.length === 0) return 'Nothing runs on it.'
  const one = u?.groups.length === 1 && u.instances.length === 0
  return `${list(parts)} ${one ? 'runs' : 'run'} on it.`
}

function Places({ image }: { image: ImageOf }) {
  const places = usePlaces()
  const change = useCopy(image.name, image.version)
  const now = useNow()
  return (
    <>
      <dl className="facts">
        {(places.data ?? []).map((r) => {
          const here = image.places.find((p) => p.region === r.name)
          const copy = image.copies?.find((c) => c.region === r.name)
          return (
            <Place key={r.name} region={r.name} zones={r.zones.map((z) => z.name)}>
              {here ? (
                <>
                  whole, {here.copied_from ? `copied from ${here.copied_from}` : 'it came in here'}{' '}
                  <Ago at={here.since} />
                </>
              ) : copy?.state === 'copying' ? (
                <Copying copy={copy} now={now} onStop={() => change.mutate({ region: r.name, stop: true })} />
              ) : (
                <span className="row">
                  <span className="quiet">not here; nothing can launch it here</span>
                  {copy && copy.state !== 'done' && (
                    <span className="waiting">
                      the last copy is {copy.state} at {size(copy.done_bytes)} of {size(copy.total_bytes)}:{' '}
                      {copy.why}
                    </span>
                  )}
                  {image.digest && (
                    <Button
                      size="small"
                      loading={change.isPending}
                      onClick={() => change.mutate({ region: r.name, stop: false })}
                    >
                      {copy && copy.state !== 'done' ? 'Go on copying here' : 'Copy here'}
                    </Button>
                  )}
                </span>
              )}
            </Place>
          )
        })}
      </dl>
      <Trouble error={change.error ?? places.error} />
    </>
  )
}

function Place({ region, zones, children }: { region: string; zones: string[]; children: React.ReactNode }) {
  return (
    <>
      <dt title={`zones ${list(zones)}`}>{region}</dt>
      <dd>{children}</dd>
    </>
  )
}

function Copying({ copy, now, onStop }: { copy: Copy; now: number; onStop: () => void }) {
  const took = Math.max(secondsBetween(copy.started_at, now), 0.1)
  const rate = copy.done_bytes / took
  const left = rate > 0 ? (copy.total_bytes - copy.done_bytes) / rate : 0
  const percent = copy.total_bytes > 0 ? Math.floor((100 * copy.done_bytes) / copy.total_bytes) : 0
  return (
    <span className="row">
      <Progress percent={percent} size={[180, 8]} aria-label="copied" />
      <span>
        {size(copy.done_bytes)} of {size(copy.total_bytes)}, {size(Math.round(rate))}/s
        {rate > 0 && `, about ${span(left)} left`}
      </span>
      <Button size="small" onClick={onStop}>
        Break off
      </Button>
    </span>
  )
}

function Ancestors({ image }: { image: ImageOf }) {
  const lineage = useLineage(image.name, String(image.version))
  if (!lineage.data) return <Loading lines={2} />
  return (
    <>
      <Trouble error={lineage.error} />
      <Lineage images={lineage.data} at={`${image.name}@${image.version}`} />
    </>
  )
}

/** The recipe and the log, of a version that was made here. */
function Making({ image }: { image: ImageOf }) {
  const log = useBakeLog(image)
  const end = useRef<HTMLPreElement>(null)
  useEffect(() => {
    if (image.state === 'baking' && end.current) end.current.scrollTop = end.current.scrollHeight
  }, [image.state, log.data])
  if (image.origin !== 'baked' && image.origin !== 'from-instance') return null
  return (
    <>
      <h2>Bake log</h2>
      {log.data === null || log.data === undefined ? (
        <p className="quiet">There is no log of it at this service.</p>
      ) : (
        <pre className="log" ref={end} tabIndex={0} aria-label="bake log">
          {log.data}
        </pre>
      )}
      {image.recipe && (
        <>
          <h2>Recipe</h2>
          <pre className="log" tabIndex={0}>
            {image.recipe}
          </pre>
        </>
      )}
    </>
  )
}

function Facts({ image }: { image: ImageOf }) {
  return (
    <dl className="facts">
      <dt>Origin</dt>
      <dd>
        {image.origin}
        {image.source && ` (${image.source})`}
      </dd>
      <dt>Starts</dt>
      <dd>
        <code>{image.start.join(' ') || '—'}</code>
      </dd>
      <dt>Size</dt>
      <dd>{image.digest ? size(image.size_bytes) : '—'}</dd>
      <dt>Digest</dt>
      <dd>
        <code>{image.digest || '—'}</code>
      </dd>
      <dt>Labels</dt>
      <dd>
        {Object.entries(image.labels)
          .map(([k, v]) => `${k}=${v}`)
          .join(', ') || 'none'}
      </dd>
      <dt>Made</dt>
      <dd>
        <Ago at={image.created_at} /> by {image.created_by}
      </dd>
    </dl>
  )
}
