import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { seen, useAct } from './act'
import { applied } from './changes'
import { api, Refused, take, type Group, type Instance, type NewRollout, type Rollout } from './client'
import { save } from '../parts/save'

// Everything under 'live' is read again when an event says that it may be other (concerns.ts).
// The intervals are for what changes without one: sentences that count seconds, which is
// while something moves, and what is measured.
const counting = 1000
const calm = 3000
export const live = { refetchInterval: calm }

/** The same for one thing by its name: of what is not there, nobody asks again. */
export const whileThere = {
  retry: false,
  refetchInterval: (query: { state: { error: Error | null } }) =>
    isMissing(query.state.error) ? false : calm,
}

const moves = (g: Group) => g.summary.condition !== 'complete'

export const isMissing = (e: Error | null) => e instanceof Refused && e.problem.status === 404

const allGroups = {
  queryKey: ['live', 'groups'],
  queryFn: () => take(api.GET('/v1/groups', { params: { query: { limit: 1000 } } })),
  refetchInterval: (query: { state: { data: { items: Group[] } | undefined } }) =>
    query.state.data?.items.some(moves) ? counting : calm,
}

export function useGroups() {
  return useQuery({ ...allGroups, select: (list) => list.items })
}

/** How all groups stand, in a sentence. */
export function useHeadline() {
  return useQuery({ ...allGroups, select: (list) => list.sentence }).data
}

export function useGroup(name: string) {
  return useQuery({
    queryKey: ['live', 'group', name],
    queryFn: () => take(api.GET('/v1/groups/{name}', { params: { path: { name } } })),
    enabled: name !== '',
    ...whileThere,
    refetchInterval: (query) => {
      if (isMissing(query.state.error)) return false
      return !query.state.data || moves(query.state.data) ? counting : calm
    },
  })
}

/** Instances as they are followed: what was told last, and the mark that goes on from it. */
interface Followed {
  mark: string
  list: Instance[]
}

/** All instances, those of a group, or those that belong to none; only what changed is read again. */
export function useInstances(group = '', alone = false) {
  const client = useQueryClient()
  const queryKey = ['live', 'instances', group, alone]
  return useQuery({
    queryKey,
    queryFn: async ({ signal }): Promise<Followed> => {
      const before = client.getQueryData<Followed>(queryKey)
      const told = await take(
        api.GET('/v1/instance-changes', {
          params: { query: { group, alone, ...(before ? { since: before.mark } : {}) } },
          signal,
        }),
      )
      return { mark: told.cursor, list: applied(before?.list ?? [], told) }
    },
    structuralSharing: false, // what did not change is the same object already
    select: listOf,
    refetchInterval: (query) => ((query.state.data?.list.length ?? 0) > 1000 ? 5000 : 2000),
  })
}

const listOf = (f: Followed) => f.list

/** The latest rollout of a group, or null. */
export function useRollout(group: string) {
  return useQuery({
    queryKey: ['live', 'rollout', group],
    queryFn: async () =>
      (await take(api.GET('/v1/rollouts', { params: { query: { group, limit: 1 } } }))).items[0] ?? null,
    refetchInterval: (query) => (query.state.data && !query.state.data.ended_at ? counting : calm),
  })
}

export function usePool(name: string) {
  return useQuery({
    queryKey: ['live', 'pool', name],
    queryFn: () => take(api.GET('/v1/pools/{name}', { params: { path: { name } } })),
    ...whileThere,
  })
}

export function useJournal(group: string, limit: number) {
  return useQuery({
    queryKey: ['live', 'journal', group, limit],
    queryFn: () => take(api.GET('/v1/journal', { params: { query: { group, limit } } })),
    // More of the same group's; never what was read of another.
    placeholderData: (before, query) => (query?.queryKey[2] === group ? before : undefined),
  })
}

export function useTemplateVersions(name: string) {
  return useQuery({
    queryKey: ['templates', name],
    queryFn: async () =>
      (await take(api.GET('/v1/templates', { params: { query: { name, limit: 100 } } }))).items,
  })
}

/** What a rollout to a version would be, with advice; it is not begun. */
export function useWouldBegin(group: string, to: string | undefined, supersede: boolean) {
  return useQuery({
    queryKey: ['would-begin', group, to, supersede],
    queryFn: () =>
      take(
        api.POST('/v1/groups/{name}/rollouts', {
          params: { path: { name: group }, query: { dry_run: true } },
          body: { to: to ?? '', supersede },
        }),
      ),
    enabled: to !== undefined,
    retry: false,
  })
}

export function useStartRollout(group: string) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: NewRollout) =>
      take(
        api.POST('/v1/groups/{name}/rollouts', {
          params: { path: { name: group }, header: { 'Idempotency-Key': crypto.randomUUID() } },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export type Command = 'hold' | 'proceed' | 'revert'

export function useTellRollout(rollout: Rollout) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ command, reason = '' }: { command: Command; reason?: string }) =>
      take(
        api.POST('/v1/rollouts/{number}/commands', {
          params: {
            path: { number: rollout.number },
            // Whatever wave it has come to meanwhile, it is held and goes back; it goes on from
            // where somebody saw it stand.
            header: command === 'proceed' ? seen(rollout) : { 'If-Match': '*' },
          },
          body: { command, ...(reason ? { reason } : {}) },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

/** Reads a rollout as a record for a change ticket, and saves it. */
export function useRolloutRecord(rollout: Rollout) {
  return useMutation({
    mutationFn: () =>
      take(
        api.GET('/v1/rollouts/{number}/record', {
          params: { path: { number: rollout.number } },
          parseAs: 'text',
        }),
      ),
    onSuccess: (text) => save(text, `rollout-${rollout.number}.md`, 'text/markdown'),
  })
}

/** Freezes or thaws a group, or permits healing past its limit. */
export function useTellGroup(g: Group) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { command: 'freeze' | 'thaw' | 'heal'; reason?: string }) =>
      take(
        api.POST('/v1/groups/{name}/commands', {
          params: {
            path: { name: g.name },
            // It is frozen whatever it has come to; it is thawed and healed as somebody saw it.
            header: body.command === 'freeze' ? { 'If-Match': '*' } : seen(g),
          },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export type InstanceAct = 'pin' | 'unpin' | 'park' | 'unpark' | 'retire' | 'recreate' | 'release'

/** Gives a person's command to instances, in one request; each takes it or says why not. */
export function useTellInstances() {
  return useAct(
    (body: {
      instances: string[]
      command: InstanceAct
      at_once?: boolean
      launches?: Record<string, number>
      reason?: string
    }) => take(api.POST('/v1/instances/commands', { body: { at_once: false, ...body } })),
  )
}
