import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useAct, seen } from './act'
import { api, take, type Check, type Group, type NewGroup, type Pool } from './client'
import type { components } from './contract.gen'
import { live } from './queries'

type Schemas = components['schemas']
export type NewDrill = Schemas['NewDrill']
export type GroupChange = Schemas['GroupChange']
export type PoolChange = Schemas['PoolChange']
export type CheckChange = Schemas['CheckChange']
export type FailingSlot = Schemas['FailingSlot']

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

/** The services on this database; which are alive is told by no event. */
export function useReplicas() {
  return useQuery({
    queryKey: ['live', 'replicas'],
    queryFn: async () => (await take(api.GET('/v1/replicas'))).items,
    refetchInterval: 2000,
  })
}

export type WantedGroup = components['schemas']['Wanted']

/** What decisions about a group go by; time alone changes it as well. */
export function useWanted(group: string) {
  return useQuery({
    queryKey: ['live', 'wanted', group],
    queryFn: () => take(api.GET('/v1/groups/{name}/wanted', { params: { path: { name: group } } })),
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

/** What the service is, and what keeps it from working as it should. */
export function useService() {
  return useQuery({
    queryKey: ['service'],
    queryFn: () => take(api.GET('/v1/service')),
    refetchInterval: 10_000,
  })
}

/** Has restored records be acted on again. */
export function useResume() {
  return useServiceAct((reason: string) =>
    take(api.POST('/v1/service/resume', { body: reason ? { reason } : {} })),
  )
}

/** Stops machines that no record knows. */
export function useStopStrays() {
  return useServiceAct((act: { machines: string[]; reason: string }) =>
    take(
      api.POST('/v1/service/strays', {
        body: { machines: act.machines, ...(act.reason ? { reason: act.reason } : {}) },
      }),
    ),
  )
}

function useServiceAct<A, R>(act: (a: A) => Promise<R>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () => client.invalidateQueries({ queryKey: ['service'] }),
  })
}

export function useZones() {
  const service = useService()
  return { data: service.data?.zones }
}

export function useCosts(by: string, step: 'hour' | 'day', from: string | undefined) {
  return useQuery({
    queryKey: ['costs', by, step, from],
    queryFn: () => take(api.GET('/v1/costs', { params: { query: { by, step, ...(from ? { from } : {}) } } })),
    refetchInterval: 10_000,
    placeholderData: (before) => before,
  })
}

/** Starts a drill; with dry it only tells what that would take. */
export const startDrill = ({ body, dry }: { body: NewDrill; dry: boolean }) =>
  take(api.POST('/v1/drills', { params: { query: { dry_run: dry } }, body }))

export const useStartDrill = () => useAct(startDrill)

export function useStopDrill() {
  return useAct((number: number) => take(api.DELETE('/v1/drills/{number}', { params: { path: { number } } })))
}

/** Changes settings of a group as it was seen; with dry it only tells what that would do. */
export function useChangeGroup() {
  return useAct(({ group, body, dry }: { group: Group; body: GroupChange; dry: boolean }) =>
    take(
      api.PATCH('/v1/groups/{name}', {
        params: { path: { name: group.name }, query: { dry_run: dry }, header: seen(group) },
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

export function useDeleteGroup() {
  return useAct((group: Group) =>
    take(api.DELETE('/v1/groups/{name}', { params: { path: { name: group.name }, header: seen(group) } })),
  )
}

export function useChangePool() {
  return useAct(changePool)
}

/** Changes a pool as it was seen; with dry it only tells what that would be. */
export const changePool = ({ pool, body, dry = false }: { pool: Pool; body: PoolChange; dry?: boolean }) =>
  take(
    api.PATCH('/v1/pools/{name}', {
      params: { path: { name: pool.name }, query: { dry_run: dry }, header: seen(pool) },
      body,
    }),
  )

export function useChangeCheck() {
  return useAct(changeCheck)
}

/** Changes a check as it was seen; with dry it only tells what that would be. */
export const changeCheck = ({
  check,
  body,
  dry = false,
}: {
  check: Check
  body: CheckChange
  dry?: boolean
}): Promise<Check> =>
  take(
    api.PATCH('/v1/checks/{name}', {
      params: { path: { name: check.name }, query: { dry_run: dry }, header: seen(check) },
      body,
    }),
  )

export type NewPool = Schemas['NewPool']
export type NewCheck = Schemas['NewCheck']

const once = () => ({ header: { 'Idempotency-Key': crypto.randomUUID() } })

export function useMakePool() {
  return useAct((body: NewPool) => take(api.POST('/v1/pools', { params: once(), body })))
}

export function useMakeCheck() {
  return useAct((body: NewCheck) => take(api.POST('/v1/checks', { params: once(), body })))
}

export function useDeletePool() {
  return useAct((pool: Pool) =>
    take(api.DELETE('/v1/pools/{name}', { params: { path: { name: pool.name }, header: seen(pool) } })),
  )
}

export function useDeleteCheck() {
  return useAct((check: Check) =>
    take(api.DELETE('/v1/checks/{name}', { params: { path: { name: check.name }, header: seen(check) } })),
  )
}
