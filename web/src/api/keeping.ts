import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, take, type Check, type Group, type NewGroup, type NewTemplate } from './client'
import type { components } from './contract.gen'
import { live } from './queries'

type Schemas = components['schemas']
export type NewDrill = Schemas['NewDrill']
export type GroupChange = Schemas['GroupChange']
export type PoolChange = Schemas['PoolChange']
export type CheckChange = Schemas['CheckChange']
export type FailingPlace = Schemas['FailingPlace']

export function usePools() {
  return useQuery({
    queryKey: ['live', 'pools'],
    queryFn: async () => (await take(api.GET('/v1/pools', { params: { query: { limit: 1000 } } }))).items,
    ...live,
  })
}

export function useChecks() {
  return useQuery({
    queryKey: ['live', 'checks'],
    queryFn: async () => (await take(api.GET('/v1/checks', { params: { query: { limit: 1000 } } }))).items,
  })
}

export function useCheck(name: string) {
  return useQuery({
    queryKey: ['live', 'check', name],
    queryFn: () => take(api.GET('/v1/checks/{name}', { params: { path: { name } } })),
  })
}

export function useDrills() {
  return useQuery({
    queryKey: ['live', 'drills'],
    queryFn: async () => (await take(api.GET('/v1/drills'))).items,
    refetchInterval: 2000,
  })
}

export function useFailures(group: string) {
  return useQuery({
    queryKey: ['live', 'failures', group],
    queryFn: async () =>
      (await take(api.GET('/v1/groups/{name}/failures', { params: { path: { name: group } } }))).items,
  })
}

export function useZones() {
  return useQuery({
    queryKey: ['service'],
    queryFn: async () => (await take(api.GET('/v1/service'))).zones,
  })
}

export function useCosts(by: string, step: 'hour' | 'day', from: string | undefined) {
  return useQuery({
    queryKey: ['costs', by, step, from],
    queryFn: () => take(api.GET('/v1/costs', { params: { query: { by, step, ...(from ? { from } : {}) } } })),
    refetchInterval: 10_000,
    placeholderData: (before) => before,
  })
}

function useAct<V, R>(act: (v: V) => Promise<R>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export function useStartDrill() {
  return useAct((body: NewDrill) => take(api.POST('/v1/drills', { body })))
}

export function useStopDrill() {
  return useAct((number: number) => take(api.DELETE('/v1/drills/{number}', { params: { path: { number } } })))
}

/** Changes settings of a group; with dry it only tells what that would do. */
export function useChangeGroup(name: string) {
  return useAct(({ body, dry }: { body: GroupChange; dry: boolean }) =>
    take(
      api.PATCH('/v1/groups/{name}', {
        params: { path: { name }, query: { dry_run: dry }, header: { 'If-Match': '*' } },
        body,
      }),
    ),
  )
}

/** Makes a group; with dry it only tells what would be made. */
export function useMakeGroup() {
  return useAct(({ body, dry }: { body: NewGroup; dry: boolean }): Promise<Group> =>
    take(
      api.POST('/v1/groups', {
        params: { query: { dry_run: dry }, header: { 'Idempotency-Key': crypto.randomUUID() } },
        body,
      }),
    ),
  )
}

export function useDeleteGroup(name: string) {
  return useAct(() =>
    take(api.DELETE('/v1/groups/{name}', { params: { path: { name }, header: { 'If-Match': '*' } } })),
  )
}

export function useChangePool(name: string) {
  return useAct((body: PoolChange) =>
    take(api.PATCH('/v1/pools/{name}', { params: { path: { name }, header: { 'If-Match': '*' } }, body })),
  )
}

export function useChangeCheck(name: string) {
  return useAct((body: CheckChange): Promise<Check> =>
    take(api.PATCH('/v1/checks/{name}', { params: { path: { name }, header: { 'If-Match': '*' } }, body })),
  )
}

export function useReleaseInstance() {
  return useAct(({ id, replace }: { id: string; replace: boolean }) =>
    take(
      api.POST('/v1/instances/{id}/release', {
        params: { path: { id }, header: { 'If-Match': '*' } },
        body: { replace },
      }),
    ),
  )
}

/** Makes a template with what it cannot do without; the rest is as usual. */
export function useMakePlainTemplate() {
  return useAct((t: { name: string; image: string; port: number }) =>
    take(
      api.POST('/v1/templates', {
        params: { header: { 'Idempotency-Key': crypto.randomUUID() } },
        body: t as NewTemplate, // the service fills in the others
      }),
    ),
  )
}
