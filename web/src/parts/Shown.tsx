import { useOfNow } from './now'

/** Words that change with the time, so that nothing around them is drawn anew with it. */
export function Shown({ children }: { children: (now: number) => string }) {
  return useOfNow(children)
}
