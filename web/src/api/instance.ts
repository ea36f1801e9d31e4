import { useQuery } from '@tanstack/react-query'
import { useAct } from './act'
import { api, take } from './client'
import type { components } from './contract.gen'
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

/** How the command before a terminal ended. */
export type ShellEnd = components['schemas']['ShellEnd']

/** Opens a terminal on its machine; the stream that is named is for one. */
export function useOpenShell(id: string) {
  return useAct(
    (reason: string) =>
      take(
        api.POST('/v1/instances/{id}/shells', {
          params: { path: { id } },
          body: {
            command: ['sh'],
            columns: 80,
            rows: 24,
            terminal: 'xterm-256color',
            ...(reason ? { reason } : {}),
          },
        }),
      ),
    false,
  )
}
