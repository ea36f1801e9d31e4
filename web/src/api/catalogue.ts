import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, take, type Image, type NewTemplate, type TemplateRevision } from './client'

export interface ImageSearch {
  text: string
  state: Image['state'] | ''
  origin: Image['origin'] | ''
  limit: number
}

const keep = { placeholderData: <T>(before: T | undefined) => before }

/** Image versions that fit the search, and whether there are more. */
export function useImages(search: ImageSearch) {
  return useQuery({
    queryKey: ['live', 'images', search],
    queryFn: () =>
      take(
        api.GET('/v1/images', {
          params: {
            query: {
              limit: search.limit,
              ...(search.text ? { text: search.text } : {}),
              ...(search.state ? { state: search.state } : {}),
              ...(search.origin ? { origin: search.origin } : {}),
            },
          },
        }),
      ),
    ...keep,
  })
}

const path = (name: string, version: string) => ({ params: { path: { name, version } } })

/** One version; read every second while it is made or copied. */
export function useImage(name: string, version: string) {
  return useQuery({
    queryKey: ['live', 'image', name, version],
    queryFn: () => take(api.GET('/v1/images/{name}/{version}', path(name, version))),
    refetchInterval: (q) => {
      const i = q.state.data
      return i?.state === 'baking' || i?.copies?.some((c) => c.state === 'copying') ? 500 : false
    },
    retry: false,
    ...keep,
  })
}

export function useLineage(name: string, version: string) {
  return useQuery({
    queryKey: ['live', 'lineage', name, version],
    queryFn: async () =>
      (await take(api.GET('/v1/images/{name}/{version}/lineage', path(name, version)))).items,
    ...keep,
  })
}

/** The log of how a version was made, or null when it was not made here. */
export function useBakeLog(image: Image) {
  const made = image.origin === 'baked' || image.origin === 'from-instance'
  return useQuery({
    queryKey: ['bake-log', image.name, image.version, image.state],
    queryFn: async () => {
      const answer = await api.GET('/v1/images/{name}/{version}/bake-log', {
        ...path(image.name, String(image.version)),
        parseAs: 'text',
      })
      return answer.response.ok ? (answer.data ?? '') : null
    },
    enabled: made,
    refetchInterval: image.state === 'baking' ? 500 : false,
    ...keep,
  })
}

export function usePlaces() {
  return useQuery({
    queryKey: ['live', 'places'],
    queryFn: async () => (await take(api.GET('/v1/places'))).items,
    ...keep,
  })
}

/** A change of one image version; everything live is read again after it. */
export function useImageChange(name: string, version: number) {
  const client = useQueryClient()
  const at = path(name, String(version))
  return useMutation({
    mutationFn: async (change: ImageChange) => {
      const match = { ...at.params, header: { 'If-Match': change.match ?? '*' } }
      switch (change.do) {
        case 'copy':
          return take(api.POST('/v1/images/{name}/{version}/copies', { ...at, body: { to: change.region } }))
        case 'stop':
          return take(
            api.DELETE('/v1/images/{name}/{version}/copies/{region}', {
              params: { path: { ...at.params.path, region: change.region } },
            }),
          )
        case 'withdraw':
          return take(
            api.POST('/v1/images/{name}/{version}/withdrawal', {
              params: match,
              body: { reason: change.reason, ...(change.successor ? { successor: change.successor } : {}) },
            }),
          )
        case 'delete':
          return take(api.DELETE('/v1/images/{name}/{version}', { params: match }))
        case 'mark':
          return take(
            api.PUT('/v1/images/{name}/marks/{mark}', {
              params: { path: { name, mark: change.mark } },
              body: { version },
            }),
          )
      }
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

type ImageChange = { match?: string } & (
  | { do: 'copy' | 'stop'; region: string }
  | { do: 'withdraw'; reason: string; successor: string }
  | { do: 'delete' }
  | { do: 'mark'; mark: string }
)

/** The latest versions of all templates, or all versions of one. */
export function useTemplates(name?: string) {
  return useQuery({
    queryKey: ['live', 'templates', name],
    queryFn: async () =>
      (
        await take(
          api.GET('/v1/templates', { params: { query: { limit: 1000, ...(name ? { name } : {}) } } }),
        )
      ).items,
    ...keep,
  })
}

export function useTemplateDiff(name: string, from: number, to: number) {
  return useQuery({
    queryKey: ['diff', name, from, to],
    queryFn: () =>
      take(
        api.GET('/v1/templates/{name}/{version}/diff', {
          params: { path: { name, version: String(from) }, query: { to: `${name}@${to}` } },
        }),
      ),
    enabled: from !== to,
    staleTime: Infinity,
  })
}

/** Makes a template version, or with dry says what would be made. */
export function useMakeTemplate(name: string | undefined) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ body, dry }: { body: NewTemplate & TemplateRevision; dry: boolean }) => {
      const header = dry ? {} : { 'Idempotency-Key': crypto.randomUUID() }
      const query = { dry_run: dry }
      if (name === undefined)
        return take(api.POST('/v1/templates', { params: { query, header }, body: without(body, 'from') }))
      return take(
        api.POST('/v1/templates/{name}', {
          params: { path: { name }, query, header },
          body: without(body, 'name'),
        }),
      )
    },
    onSettled: (_, __, { dry }) => (dry ? undefined : client.invalidateQueries({ queryKey: ['live'] })),
  })
}

function without<T extends object, K extends keyof T>(from: T, key: K): Omit<T, K> {
  const rest = { ...from }
  Reflect.deleteProperty(rest, key)
  return rest
}
