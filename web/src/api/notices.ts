import { useQuery } from '@tanstack/react-query'
import { useAct, seen } from './act'
import { api, take } from './client'
import type { components } from './contract.gen'

type Schemas = components['schemas']
export type Notice = Schemas['Notice']
export type NewNotice = Schemas['NewNotice']
export type NoticeSettings = Schemas['NoticeSettings']
export type Message = Schemas['Message']
export type Topic = Schemas['Topic']

/** Messages come and go without an event. */
const calm = { refetchInterval: 2000 }

export function useNotices() {
  return useQuery({
    queryKey: ['live', 'notices'],
    queryFn: async () => (await take(api.GET('/v1/notices'))).items,
    ...calm,
  })
}

export function useMessages(name: string) {
  return useQuery({
    queryKey: ['live', 'messages', name],
    queryFn: async () =>
      (await take(api.GET('/v1/notices/{name}/messages', { params: { path: { name } } }))).items,
    ...calm,
  })
}

export function useSaveNotice() {
  return useAct(({ was, name, body }: { was: Notice | null; name: string; body: Omit<NewNotice, 'name'> }) =>
    take(
      was
        ? api.PATCH('/v1/notices/{name}', {
            params: { path: { name: was.name }, header: seen(was) },
            body,
          })
        : api.POST('/v1/notices', { body: { ...body, name } }),
    ),
  )
}

export function useRemoveNotice() {
  return useAct((n: Notice) =>
    take(api.DELETE('/v1/notices/{name}', { params: { path: { name: n.name }, header: seen(n) } })),
  )
}

/** Sends a test, or a message once more. */
export function useSendMessage(name: string) {
  return useAct((again?: number) =>
    take(
      api.POST('/v1/notices/{name}/messages', {
        params: { path: { name } },
        body: again === undefined ? {} : { again },
      }),
    ),
  )
}

export function useNoticeSecret(name: string) {
  return useAct(() => take(api.GET('/v1/notices/{name}/secret', { params: { path: { name } } })))
}
