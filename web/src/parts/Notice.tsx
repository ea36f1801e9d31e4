import type { ReactNode } from 'react'

/** Something to mind, or what went wrong: said beside a mark, and to who listens. */
export function Notice({
  bad = false,
  title,
  children,
}: {
  bad?: boolean
  title: ReactNode
  children?: ReactNode
}) {
  return (
    <div className={bad ? 'notice bad' : 'notice'} role="alert">
      <span aria-hidden>{bad ? '■' : '▲'}</span>
      <div>
        {title}
        {children}
      </div>
    </div>
  )
}
