import type { JournalEntry } from './client'

/** What is written of things, by the first word of an entry's kind. */
const catalogue: Record<string, string[]> = {
  image: ['images', 'image', 'lineage'],
  template: ['templates'],
  course: ['courses', 'course'],
  notice: ['notices', 'messages'],
  check: ['checks', 'check'],
  drill: ['drills'],
  service: ['replicas'],
}

/** What is about one group, and stands third in the key of what is read. */
const ofGroup = new Set([
  'group',
  'instances',
  'rollout',
  'journal',
  'failures',
  'wanted',
  'tickets',
  'deliveries',
  'rules',
  'sizes',
])

/** What requests go to, which is other with any instance that comes, goes or turns ill. */
const ofTraffic = new Set(['pools', 'pool', 'listeners', 'listener', 'served'])

/**
 * Whether what is read by a key, ['live', what, of whom], may be other after an entry of the
 * journal. It may err by reading too much, never by reading too little.
 */
export function concerned(key: readonly unknown[], e: JournalEntry): boolean {
  const [, what, whom] = key as [unknown, string, unknown]
  const family = e.kind.split('.')[0] ?? ''
  if (Object.values(catalogue).some((keys) => keys.includes(what)))
    return catalogue[family]?.includes(what) ?? !(e.group ?? e.instance ?? e.rollout)
  if (ofGroup.has(what))
    return e.group === undefined || typeof whom !== 'string' || whom === '' || whom === e.group
  if (what === 'instance' || what === 'journal-of')
    return (
      e.group === undefined ||
      (e.instance === undefined && e.instances === undefined) ||
      whom === e.instance ||
      (e.instances?.includes(String(whom)) ?? false)
    )
  if (ofTraffic.has(what))
    return !['rollout', 'ticket', 'hook', 'notice', 'image', 'template', 'course'].includes(family)
  return true
}
