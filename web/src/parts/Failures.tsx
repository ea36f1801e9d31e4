import { Link } from 'react-router'
import type { Group } from '../api/client'
import { useFailures } from '../api/keeping'
import { Shown } from './Shown'
import { secondsBetween, span } from './words'

/** Places that failed again and again, with the last boot logs side by side. */
export function Failures({ group }: { group: Group }) {
  const failures = useFailures(group.name)
  const places = (failures.data ?? []).filter((p) => p.count > 1)
  return places.map((p) => {
    const again = (now: number) => {
      const left = -secondsBetween(p.until_at, now)
      return left > 0 ? `it is tried again in ${span(left)}` : 'it is to be tried again'
    }
    return (
      <section key={p.failures.map((f) => f.instance).join()} aria-label="A slot that fails">
        <p className="trouble">
          ▲ One slot failed {p.count} times in a row;{' '}
          {p.instance ? `${p.instance} has it now` : <Shown>{again}</Shown>}.
        </p>
        <div className="sides">
          {p.failures.map((f) => (
            <div key={f.instance}>
              <div>
                <Link to={`/instances/${f.instance}`}>{f.instance}</Link> in {f.zone}
              </div>
              <div className="quiet">{f.why}</div>
              <pre className="log">{f.boot_log || 'It wrote nothing.'}</pre>
            </div>
          ))}
        </div>
      </section>
    )
  })
}
