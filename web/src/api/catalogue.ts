import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import {
  api,
  take,
  token,
  Refused,
  type Image,
  type NewTemplate,
  type Problem,
  type TemplateRevision,
} from './client'

export interface ImageSearch {
  text: string
  state: Image['state'] | ''
  origin: Image['origin'] | ''
  /** '' for any, or how long ago at most, or at least with a minus, in days. */
  age: number | ''
  limit: number
}

// While a search changes, what was found before stays.
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
              ...(search.text.includes('=')
                ? { label: [search.text] }
                : search.text
                  ? { text: search.text }
                  : {}),
              ...(search.age === ''
                ? {}
                : search.age > 0
                  ? { newer_than_seconds: search.age * 86400 }
                  : { older_than_seconds: -search.age * 86400 }),
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
  })
}

export function useLineage(name: string, version: string) {
  return useQuery({
    queryKey: ['live', 'lineage', name, version],
    queryFn: async () =>
      (await take(api.GET('/v1/images/{name}/{version}/lineage', path(name, version)))).items,
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
  })
}

export function usePlaces() {
  return useQuery({
    queryKey: ['live', 'places'],
    queryFn: async () => (await take(api.GET('/v1/places'))).items,
  })
}

/** Brings a version to a region, or breaks that off. */
export function useCopy(name: string, version: number) {
  const client = useQueryClient()
  const at = path(name, String(version))
  return useMutation({
    mutationFn: ({ region, stop }: { region: string; stop: boolean }) =>
      stop
        ? take(
            api.DELETE('/v1/images/{name}/{version}/copies/{region}', {
              params: { path: { ...at.params.path, region } },
            }),
          )
        : take(api.POST('/v1/images/{name}/{version}/copies', { ...at, body: { to: region } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export type Kind = 'image' | 'template'

export type VersionChange =
  | { do: 'withdraw'; match: string; reason: string; successor: string }
  | { do: 'delete'; match: string }
  | { do: 'mark'; mark: string }

/** A change of one version of an image or template; everything live is read again after it. */
export function useVersionChange(kind: Kind, name: string, version: number) {
  const client = useQueryClient()
  return useMutation<unknown, Error, VersionChange>({
    mutationFn: (change) => {
      const at = { name, version: String(version) }
      if (change.do === 'mark') {
        const put = { params: { path: { name, mark: change.mark } }, body: { version } }
        return kind === 'image'
          ? take(api.PUT('/v1/images/{name}/marks/{mark}', put))
          : take(api.PUT('/v1/templates/{name}/marks/{mark}', put))
      }
      const params = { path: at, header: { 'If-Match': change.match } }
      if (change.do === 'delete') {
        return kind === 'image'
          ? take(api.DELETE('/v1/images/{name}/{version}', { params }))
          : take(api.DELETE('/v1/templates/{name}/{version}', { params }))
      }
      const body = {
        reason: change.reason,
        ...(change.successor ? { successor: change.successor } : {}),
      }
      return kind === 'image'
        ? take(api.POST('/v1/images/{name}/{version}/withdrawal', { params, body }))
        : take(api.POST('/v1/templates/{name}/{version}/withdrawal', { params, body }))
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

/** Begins to make a version from the files of an instance. */
export function useImageFromInstance() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { instance: string; stop_first: boolean; name?: string }) =>
      take(
        api.POST('/v1/images/from-instance', {
          params: { header: { 'Idempotency-Key': crypto.randomUUID() } },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

/** Has the service fetch an image from a registry. */
export function useFetchImage() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { name: string; reference: string; region?: string }) =>
      take(
        api.POST('/v1/images/references', {
          params: { header: { 'Idempotency-Key': crypto.randomUUID() } },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

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

/** Sends an image file or a recipe, telling how many of its bytes have gone. */
export function send(
  where: 'images' | 'images/bakes',
  query: Record<string, string>,
  content: Blob,
  progress: (sent: number) => void,
): Promise<Image> {
  return new Promise((resolve, reject) => {
    const r = new XMLHttpRequest()
    r.open('POST', `/v1/${where}?${new URLSearchParams(query).toString()}`)
    r.setRequestHeader('Authorization', `Bearer ${token.get() ?? ''}`)
    r.setRequestHeader('Content-Type', where === 'images' ? 'application/octet-stream' : 'application/gzip')
    r.upload.onprogress = (e) => progress(e.loaded)
    r.onerror = () => reject(new Error('The upload broke off; nothing of it was kept. Try again.'))
    r.onload = () => {
      const answer: unknown = JSON.parse(r.responseText)
      if (r.status < 300) resolve(answer as Image)
      else reject(new Refused(answer as Problem))
    }
    r.send(content)
  })
}

/** Packs files as a compressed tar archive (POSIX ustar). */
export async function packed(files: { name: string; content: Blob }[]): Promise<Blob> {
  const parts: BlobPart[] = []
  for (const { name, content } of files) {
    const head = new Uint8Array(512)
    const put = (at: number, text: string) => head.set(new TextEncoder().encode(text), at)
    put(0, name)
    put(100, '0000755\0')
    put(108, '0000000\0')
    put(116, '0000000\0')
    put(124, content.size.toString(8).padStart(11, '0') + '\0')
    put(136, '00000000000\0')
    put(148, ' '.repeat(8))
    put(156, '0')
    put(257, 'ustar\x0000')
    const sum = head.reduce((n, b) => n + b, 0)
    put(148, sum.toString(8).padStart(6, '0') + '\0 ')
    parts.push(head, content, new Uint8Array((512 - (content.size % 512)) % 512))
  }
  parts.push(new Uint8Array(1024))
  const zipped = new Blob(parts).stream().pipeThrough(new CompressionStream('gzip'))
  return new Response(zipped).blob()
}
