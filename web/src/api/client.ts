import createClient from 'openapi-fetch'
import type { components, paths } from './contract.gen'

type Schemas = components['schemas']
export type Group = Schemas['Group']
export type Instance = Schemas['Instance']
export type Rollout = Schemas['Rollout']
export type Wave = Schemas['Wave']
export type Gate = Schemas['Gate']
export type Pool = Schemas['Pool']
export type Template = Schemas['Template']
export type NewTemplate = Schemas['NewTemplate']
export type TemplateRevision = Schemas['TemplateRevision']
export type TemplateDiff = Schemas['TemplateDiff']
export type Change = Schemas['Change']
export type Advice = Schemas['Advice']
export type Image = Schemas['Image']
export type Copy = Schemas['Copy']
export type Users = Schemas['Users']
export type Marks = Schemas['Marks']
export type JournalEntry = Schemas['JournalEntry']
export type Check = Schemas['Check']
export type Replica = Schemas['Replica']
export type Costs = Schemas['Costs']
export type NewGroup = Schemas['NewGroup']
export type NewRollout = Schemas['NewRollout']
export type Problem = Schemas['Problem']

/** A request that the service refused, or that never reached it. */
export class Refused extends Error {
  readonly problem: Problem
  constructor(problem: Problem) {
    super(problem.detail ?? problem.title)
    this.problem = problem
  }
  /** What is wrong with the field, by its JSON Pointer. */
  about(field: string): string | undefined {
    return this.problem.errors?.find((e) => e.pointer === '/' + field || e.pointer.startsWith(`/${field}/`))
      ?.detail
  }
}

const storage = 'unitas-token'

/** The bearer token of all tabs of this browser, until somebody signs out in one of them. */
export const token = {
  get: () => localStorage.getItem(storage),
  set: (value: string) => localStorage.setItem(storage, value),
  clear: () => localStorage.removeItem(storage),
  /** Calls f when another tab signs in or out. */
  onOtherTab(f: () => void): () => void {
    const heard = (e: StorageEvent) => {
      if (e.key === storage || e.key === null) f()
    }
    window.addEventListener('storage', heard)
    return () => window.removeEventListener('storage', heard)
  },
}

/** Tells the console that the service does not know the token any more. */
export const ended = () => window.dispatchEvent(new Event('signed-out'))

const bearer = (secret: string | null) => `Bearer ${secret ?? ''}`

export const api = createClient<paths>({ baseUrl: window.location.origin })
api.use({
  onRequest({ request }) {
    if (!request.headers.has('Authorization')) request.headers.set('Authorization', bearer(token.get()))
    return request
  },
  onResponse({ request, response }) {
    if (response.status === 401 && request.headers.get('Authorization') === bearer(token.get())) ended()
  },
})

/** Keeps the token for all tabs, once the service has said that it knows it. */
export async function signIn(secret: string) {
  await take(api.GET('/v1/service', { headers: { Authorization: bearer(secret) } }))
  token.set(secret)
}

/** Takes the answer of a call or throws what went wrong as Refused. */
export async function take<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer: { data?: T; error?: unknown; response: Response }
  try {
    answer = await call
  } catch {
    throw new Refused({
      type: 'unreached',
      title: 'The service is not reached',
      status: 0,
      detail: 'The service is not reached. What it runs goes on; this page tries again.',
    })
  }
  if (answer.response.ok && answer.data !== undefined) return answer.data
  if (answer.response.status === 204) return undefined as T
  if (isProblem(answer.error)) throw new Refused(answer.error)
  throw new Refused({
    type: 'unknown',
    title: `The service answered ${answer.response.status}`,
    status: answer.response.status,
  })
}

function isProblem(x: unknown): x is Problem {
  return typeof x === 'object' && x !== null && 'title' in x && 'status' in x
}
