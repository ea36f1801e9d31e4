import type { Instance } from './client'
import type { components } from './contract.gen'

type Changes = components['schemas']['InstanceChanges']

/**
 * The list after the changes, by group and number. What is not other is the same object as
 * before, so that nothing of it is drawn anew; and the list is, when nothing is.
 */
export function applied(before: Instance[], told: Changes): Instance[] {
  if (!told.complete && told.items.length === 0 && told.gone.length === 0 && sameInFlight(before, told))
    return before
  const there = new Map(told.complete ? [] : before.map((i) => [i.id, i]))
  for (const id of told.gone) there.delete(id)
  let added = false
  for (const i of told.items) {
    added ||= !there.has(i.id)
    there.set(i.id, i)
  }
  const list = [...there.values()].map((i) => {
    const n = told.in_flight[i.id] ?? 0
    return i.in_flight === n ? i : { ...i, in_flight: n }
  })
  return added && !told.complete ? list.sort(byNumber) : list
}

const sameInFlight = (list: Instance[], told: Changes) =>
  list.every((i) => i.in_flight === (told.in_flight[i.id] ?? 0))

/** By group, and in it by number: a longer number is a later one. */
function byNumber(a: Instance, b: Instance): number {
  const of = (i: Instance) => i.group || i.id
  return of(a).localeCompare(of(b)) || a.id.length - b.id.length || (a.id < b.id ? -1 : 1)
}
