import { lazy, Suspense, type ComponentType } from 'react'

/** A part that comes when it is wanted first, such as a dialog: no page waits for it. */
export function later<P extends object>(load: () => Promise<ComponentType<P>>): ComponentType<P> {
  const Part = lazy(async () => ({ default: await load() })) as unknown as ComponentType<P>
  return function Later(props: P) {
    return (
      <Suspense fallback={null}>
        <Part {...props} />
      </Suspense>
    )
  }
}
