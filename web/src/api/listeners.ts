import { useMutation, useQuery } from '@tanstack/react-query'
import { useAct, seen } from './act'
import { api, take } from './client'
import type { components } from './contract.gen'
import { live, whileThere } from './queries'

type Schemas = components['schemas']
export type Listener = Schemas['Listener']
export type Route = Schemas['Route']
export type NewListener = Schemas['NewListener']
export type ListenerChange = Schemas['ListenerChange']
export type RequestTrial = Schemas['RequestTrial']
export type HeaderMatch = Schemas['HeaderMatch']

export function useListeners() {
  return useQuery({
    queryKey: ['live', 'listeners'],
    queryFn: async () => (await take(api.GET('/v1/listeners'))).items,
    ...live,
  })
}

export function useListener(address: string) {
  return useQuery({
    queryKey: ['live', 'listener', address],
    queryFn: () => take(api.GET('/v1/listeners/{address}', { params: { path: { address } } })),
    ...whileThere,
  })
}

/** A line of what a listener wrote down. */
export interface AccessLine {
  at: string
  status?: number
  method?: string
  host?: string
  path?: string
  target?: string
  caller: string
  failure?: string
  request_id?: string
  first_byte_ms?: number
  total_ms: number
  bytes_in: number
  bytes_out: number
}

export function useAccessLog(address: string) {
  return useQuery({
    queryKey: ['live', 'access-log', address],
    queryFn: async () => {
      const read = await take(
        api.GET('/v1/listeners/{address}/access-log', {
          params: { path: { address }, query: { limit: 50 } },
        }),
      )
      return { file: read.file, lines: read.items.toReversed() as unknown as AccessLine[] }
    },
    refetchInterval: 2000,
  })
}

export function useMakeListener() {
  return useAct((body: NewListener) =>
    take(api.POST('/v1/listeners', { params: { header: { 'Idempotency-Key': crypto.randomUUID() } }, body })),
  )
}

export function useChangeListener() {
  return useAct(changeListener)
}

/** Changes a listener as it was seen; with dry it only tells what that would be. */
export const changeListener = ({
  listener: l,
  body,
  dry = false,
}: {
  listener: Listener
  body: ListenerChange
  dry?: boolean
}) =>
  take(
    api.PATCH('/v1/listeners/{address}', {
      params: { path: { address: l.address }, query: { dry_run: dry }, header: seen(l) },
      body,
    }),
  )

export function useCloseListener() {
  return useAct((l: Listener) =>
    take(
      api.DELETE('/v1/listeners/{address}', {
        params: { path: { address: l.address }, header: seen(l) },
      }),
    ),
  )
}

/** Where a request would go; nothing is sent. */
export function useTry() {
  return useMutation({ mutationFn: (body: RequestTrial) => take(api.POST('/v1/tries', { body })) })
}
