import type { ReactNode } from 'react'

/** The part of a page below what is around all of them, to which the skip link goes. */
export function Page({ children }: { children?: ReactNode }) {
  return (
    <main className="page" id="main" tabIndex={-1}>
      {children}
    </main>
  )
}
