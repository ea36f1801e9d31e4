import { useQuery } from '@tanstack/react-query'
import { useAct, seen } from './act'
import { api, take, type Group } from './client'
import type { components } from './contract.gen'
import { live } from './queries'

type Schemas = components['schemas']
export type Hook = Schemas['Hook']
export type NewHook = Schemas['NewHook']
export type HookSettings = Schemas['HookSettings']
export type Ticket = Schemas['Ticket']
export type Delivery = Schemas['Delivery']

/** Tickets that are open, of one group or of all; whose deadline comes first on top. */
export function useTickets(group?: string, all = false) {
  return useQuery({
    queryKey: ['live', 'tickets', group, all],
    queryFn: async () => {
      const page = await take(
        api.GET('/v1/tickets', { params: { query: { limit: 1000, all, ...(group ? { group } : {}) } } }),
      )
      return page.items.sort(
        (a, b) =>
          Number(b.state === 'open') - Number(a.state === 'open') ||
          a.deadline_at.localeCompare(b.deadline_at),
      )
    },
    ...live,
  })
}

export function useDeliveries(group: string) {
  return useQuery({
    queryKey: ['live', 'deliveries', group],
    queryFn: async () =>
      (
        await take(
          api.GET('/v1/groups/{name}/deliveries', {
            params: { path: { name: group }, query: { limit: 20 } },
          }),
        )
      ).items,
    ...live,
  })
}

export function useAddHook(g: Group) {
  return useAct((body: NewHook) =>
    take(api.POST('/v1/groups/{name}/hooks', { params: { path: { name: g.name }, header: seen(g) }, body })),
  )
}

export function useChangeHook(g: Group) {
  return useAct(({ hook, body }: { hook: string; body: HookSettings }) =>
    take(
      api.PUT('/v1/groups/{name}/hooks/{hook}', {
        params: { path: { name: g.name, hook }, header: seen(g) },
        body,
      }),
    ),
  )
}

export function useRemoveHook(g: Group) {
  return useAct((hook: string) =>
    take(
      api.DELETE('/v1/groups/{name}/hooks/{hook}', {
        params: { path: { name: g.name, hook }, header: { 'If-Match': '*' } },
      }),
    ),
  )
}

export function useTryHook(group: string) {
  return useAct(({ hook, instance }: { hook: string; instance?: string }) =>
    take(
      api.POST('/v1/groups/{name}/hooks/{hook}/try', {
        params: { path: { name: group, hook } },
        body: instance ? { instance } : {},
      }),
    ),
  )
}

/** Shows the secret, or makes another first. */
export function useHookSecret(group: string) {
  return useAct(({ hook, fresh }: { hook: string; fresh: boolean }) => {
    const params = { path: { name: group, hook } }
    return take(
      fresh
        ? api.POST('/v1/groups/{name}/hooks/{hook}/secret', { params, body: {} })
        : api.GET('/v1/groups/{name}/hooks/{hook}/secret', { params }),
    )
  })
}

const ticketPath = (t: Ticket) => ({ path: { id: t.instance, hook: t.hook } })

export function useAnswerTicket() {
  return useAct(({ ticket, answer, note }: { ticket: Ticket; answer: 'pass' | 'fail'; note: string }) =>
    take(
      api.POST('/v1/instances/{id}/tickets/{hook}/answer', {
        params: ticketPath(ticket),
        body: { answer, note, launch: ticket.launch },
      }),
    ),
  )
}

export function useExtendTicket() {
  return useAct(({ ticket, seconds, note }: { ticket: Ticket; seconds: number; note: string }) =>
    take(
      api.POST('/v1/instances/{id}/tickets/{hook}/extend', {
        params: ticketPath(ticket),
        body: { by_seconds: seconds, note },
      }),
    ),
  )
}

export function useSendTicket() {
  return useAct((ticket: { instance: string; hook: string }) =>
    take(
      api.POST('/v1/instances/{id}/tickets/{hook}/send', {
        params: { path: { id: ticket.instance, hook: ticket.hook } },
      }),
    ),
  )
}
