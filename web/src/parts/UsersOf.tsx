import { Link } from 'react-router'
import type { Users } from '../api/client'

/** What uses a version now, with ways to it. */
export function UsersOf({ users }: { users: Users | undefined }) {
  if (!users) return null
  const none = users.groups.length + users.templates.length + users.instances.length + users.children.length
  if (none === 0) return <p className="quiet">Nobody uses it.</p>
  return (
    <dl className="facts">
      <Part title="Groups" names={users.groups} to={(n) => `/groups/${n}`} />
      <Part title="Templates" names={users.templates} to={(n) => `/templates/${n.split('@')[0]}`} />
      <Part title="Instances" names={users.instances} />
      <Part title="Images made from it" names={users.children} to={(n) => `/images/${n.replace('@', '/')}`} />
    </dl>
  )
}

function Part({ title, names, to }: { title: string; names: string[]; to?: (name: string) => string }) {
  if (names.length === 0) return null
  const shown = names.slice(0, 30)
  return (
    <>
      <dt>{title}</dt>
      <dd>
        {shown.map((n, i) => (
          <span key={n}>
            {i > 0 && ', '}
            {to ? <Link to={to(n)}>{n}</Link> : n}
          </span>
        ))}
        {names.length > shown.length && ` and ${names.length - shown.length} more`}
      </dd>
    </>
  )
}
