import { useQuery } from '@tanstack/react-query'
import { useAct } from './act'
import { api, take } from './client'
import { whileThere } from './queries'

/** One instance with the last answers of its checks. */
export function useInstance(id: string) {
  return useQuery({
    queryKey: ['live', 'instance', id],
    queryFn: () => take(api.GET('/v1/instances/{id}', { params: { path: { id } } })),
    ...whileThere,
  })
}

/** What its machine has written, read again while it may still write. */
export function useBootLog(id: string, writes: boolean) {
  return useQuery({
    queryKey: ['boot-log', id],
    queryFn: () =>
      take(api.GET('/v1/instances/{id}/boot-log', { params: { path: { id } }, parseAs: 'text' })),
    refetchInterval: writes ? 2000 : false,
    retry: false,
  })
}

/** What happened to one instance, newest first. */
export function useLife(id: string) {
  return useQuery({
    queryKey: ['live', 'journal-of', id],
    queryFn: () => take(api.GET('/v1/journal', { params: { query: { instance: id, limit: 100 } } })),
  })
}

/** Runs a command on its machine, as its workload's user. */
export function useRun(id: string) {
  return useAct(
    (command: string[]) =>
      take(
        api.POST('/v1/instances/{id}/run', {
          params: { path: { id } },
          body: { command, timeout_seconds: 30 },
        }),
      ),
    false,
  )
}
