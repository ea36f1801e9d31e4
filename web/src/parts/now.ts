import { useSyncExternalStore } from 'react'

// One clock for the whole page: what shows a time listens to it, and nothing else is drawn
// anew when it ticks.
let at = Date.now()
let timer: ReturnType<typeof setInterval> | undefined
const hearers = new Set<() => void>()

function subscribe(hear: () => void): () => void {
  hearers.add(hear)
  timer ??= setInterval(() => {
    at = Date.now()
    for (const h of hearers) h()
  }, 500)
  return () => {
    hearers.delete(hear)
    if (hearers.size === 0) {
      clearInterval(timer)
      timer = undefined
    }
  }
}

function read(): number {
  if (timer === undefined) at = Date.now()
  return at
}

/** What follows from the time; who asks is drawn anew only when that is another. */
export function useOfNow<T extends string | number | boolean>(of: (now: number) => T): T {
  return useSyncExternalStore(subscribe, () => of(read()))
}

/** The time in ms, told anew every half second, for what counts up on the page. */
export function useNow(): number {
  return useSyncExternalStore(subscribe, read)
}
