import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, Refused, take, type Instance, type NewRollout, type Rollout } from './client'
import { save } from '../parts/save'

// Everything under 'live' is read again when an event says that it changed.
// The interval is for what changes without an event: requests in flight, and
// the service's sentence, which counts seconds.
export const live = { refetchInterval: 1000 }

/** The same for one thing by its name: of what is not there, nobody asks again. */
export const whileThere = {
  retry: false,
  refetchInterval: (query: { state: { error: Error | null } }) =>
    isMissing(query.state.error) ? false : 1000,
}

export const isMissing = (e: Error | null) => e instanceof Refused && e.problem.status === 404

export function useGroups() {
  return useQuery({
    queryKey: ['live', 'groups'],
    queryFn: async () => (await take(api.GET('/v1/groups', { params: { query: { limit: 1000 } } }))).items,
    ...live,
  })
}

export function useGroup(name: string) {
  return useQuery({
    queryKey: ['live', 'group', name],
    queryFn: () => take(api.GET('/v1/groups/{name}', { params: { path: { name } } })),
    enabled: name !== '',
    ...whileThere,
  })
}

/** All instances, those of a group, or those that belong to none; many are read at a calmer pace. */
export function useInstances(group?: string, alone = false) {
  return useQuery({
    queryKey: ['live', 'instances', group, alone],
    queryFn: async () => {
      const all: Instance[] = []
      let after: string | undefined
      do {
        const page = await take(
          api.GET('/v1/instances', {
            params: {
              query: {
                limit: 1000,
                ...(group ? { group } : {}),
                ...(alone ? { alone } : {}),
                ...(after ? { after } : {}),
              },
            },
          }),
        )
        all.push(...page.items)
        after = page.next
      } while (after)
      return all
    },
    ...live,
    refetchInterval: (query) => ((query.state.data?.length ?? 0) > 500 ? 5000 : 1000),
  })
}

/** The latest rollout of a group, or null. */
export function useRollout(group: string) {
  return useQuery({
    queryKey: ['live', 'rollout', group],
    queryFn: async () =>
      (await take(api.GET('/v1/rollouts', { params: { query: { group, limit: 1 } } }))).items[0] ?? null,
    ...live,
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
    mutationFn: (command: Command) =>
      take(
        api.POST('/v1/rollouts/{number}/commands', {
          // Whatever wave it has come to meanwhile, this is what is wanted of it.
          params: { path: { number: rollout.number }, header: { 'If-Match': '*' } },
          body: { command },
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
export function useTellGroup(name: string) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { command: 'freeze' | 'thaw' | 'heal'; reason?: string }) =>
      take(
        api.POST('/v1/groups/{name}/commands', {
          params: { path: { name }, header: { 'If-Match': '*' } },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export type InstanceAct = 'pin' | 'unpin' | 'park' | 'unpark' | 'retire' | 'recreate'

/** Gives a person's command to one instance. */
export function useTellInstance() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ id, command, reason }: { id: string; command: InstanceAct; reason?: string }) =>
      take(
        api.POST('/v1/instances/{id}/commands', {
          params: { path: { id }, header: { 'If-Match': '*' } },
          body: { command, ...(reason ? { reason } : {}) },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}
