import { useQueries, useQuery } from '@tanstack/react-query'
import { useAct, seen } from './act'
import { api, take, type Group } from './client'
import type { components } from './contract.gen'
import { live } from './queries'

type Schemas = components['schemas']
export type Rule = Schemas['Rule']
export type RuleNow = Schemas['RuleNow']
export type RuleList = Schemas['RuleList']
export type RuleKind = Schemas['RuleKind']
export type RuleSettings = Schemas['RuleSettings']
export type RuleReview = Schemas['RuleReview']
export type RuleReplay = Schemas['RuleReplay']
export type SizeChange = Schemas['SizeChange']
export type MetricSeries = Schemas['MetricSeries']

/** What is measured comes every 15 s, beside the events. */
const measured = { refetchInterval: 5000 }

export function useRules(group: string) {
  return useQuery({
    queryKey: ['live', 'rules', group],
    queryFn: () => take(api.GET('/v1/groups/{name}/rules', { params: { path: { name: group } } })),
    ...live,
    ...measured,
  })
}

export function useMetrics(group: string) {
  return useQuery({
    queryKey: ['metrics', group],
    queryFn: async () =>
      (await take(api.GET('/v1/groups/{name}/metrics', { params: { path: { name: group } } }))).items,
    ...measured,
  })
}

const since = (seconds: number) => new Date(Date.now() - seconds * 1000).toISOString()

export function useSizes(group: string, seconds: number) {
  return useQuery({
    queryKey: ['live', 'sizes', group, seconds],
    queryFn: async () =>
      (
        await take(
          api.GET('/v1/groups/{name}/sizes', {
            params: { path: { name: group }, query: { since: since(seconds) } },
          }),
        )
      ).items,
    ...live,
    ...measured,
  })
}

/** Several metrics of a group aggregate the same time. */
export function useSeries(group: string, asked: { metric: string; aggregate: string }[], seconds: number) {
  return useQueries({
    queries: asked.map(({ metric, aggregate }) => ({
      queryKey: ['metrics', group, metric, aggregate, seconds],
      queryFn: () =>
        take(
          api.GET('/v1/groups/{name}/metrics/{metric}', {
            params: { path: { name: group, metric }, query: { aggregate, since: since(seconds) } },
          }),
        ),
      ...measured,
    })),
  })
}

export interface RuleForm {
  name: string
  kind: RuleKind
  settings: RuleSettings
}

/** Makes a rule, or changes it when it is there; dry only tells what it would mean. */
export function useSaveRule(g: Group, there: boolean, dry: boolean) {
  return useAct(({ name, kind, settings }: RuleForm) => {
    const header = seen(g)
    const query = { dry_run: dry }
    return take(
      there
        ? api.PATCH('/v1/groups/{name}/rules/{rule}', {
            params: { path: { name: g.name, rule: name }, query, header },
            body: settings,
          })
        : api.POST('/v1/groups/{name}/rules', {
            params: { path: { name: g.name }, query, header },
            body: { name, kind, settings },
          }),
    )
  }, !dry)
}

export function useRemoveRule(g: Group) {
  return useAct((rule: string) =>
    take(
      api.DELETE('/v1/groups/{name}/rules/{rule}', {
        params: { path: { name: g.name, rule }, header: seen(g) },
      }),
    ),
  )
}

export function useTryRule(g: Group) {
  return useAct(({ rule, value, act }: { rule: string; value: number; act: boolean }) =>
    take(
      api.POST('/v1/groups/{name}/rules/{rule}/try', {
        params: { path: { name: g.name, rule }, header: { 'If-Match': '*' } },
        body: { value, act },
      }),
    ),
  )
}

export function useReplayRules(group: string) {
  return useAct(
    (body: Schemas['NewRuleReplay']) =>
      take(api.POST('/v1/groups/{name}/replays', { params: { path: { name: group } }, body })),
    false,
  )
}

export function useAddCalendar(g: Group, dry: boolean) {
  return useAct(
    (body: Schemas['NewCalendar']) =>
      take(
        api.POST('/v1/groups/{name}/calendar', {
          params: { path: { name: g.name }, query: { dry_run: dry }, header: seen(g) },
          body,
        }),
      ),
    !dry,
  )
}

export function useCalendarFile(group: string) {
  return useAct(
    () => take(api.GET('/v1/groups/{name}/calendar', { params: { path: { name: group } }, parseAs: 'text' })),
    false,
  )
}
