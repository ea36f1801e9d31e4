import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, take, type NewRollout, type Rollout } from './client'
import type { components } from './contract.gen'

type Schemas = components['schemas']
export type Course = Schemas['Course']
export type CourseSettings = Schemas['CourseSettings']
export type Rehearsal = Schemas['Rehearsal']
export type Findings = Schemas['Findings']

export function useCourses() {
  return useQuery({
    queryKey: ['live', 'courses'],
    queryFn: async () => (await take(api.GET('/v1/courses'))).items,
  })
}

export function useCourse(name: string) {
  return useQuery({
    queryKey: ['live', 'course', name],
    queryFn: () => take(api.GET('/v1/courses/{name}', { params: { path: { name } } })),
    enabled: name !== '',
  })
}

/** Saves settings by name: a new course, or in place of the one that was read. */
export function useSaveCourse() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ name, was, body }: { name: string; was: Course | null; body: CourseSettings }) =>
      take(
        api.PUT('/v1/courses/{name}', {
          params: { path: { name }, ...(was ? { header: { 'If-Match': `"${was.revision}"` } } : {}) },
          body,
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export function useDeleteCourse() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (c: Course) =>
      take(
        api.DELETE('/v1/courses/{name}', {
          params: { path: { name: c.name }, header: { 'If-Match': `"${c.revision}"` } },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['live'] }),
  })
}

export function useRehearse(group: string) {
  return useMutation({
    mutationFn: ({ rollout, runs, faults }: { rollout: NewRollout; runs: number; faults: string[] }) =>
      take(
        api.POST('/v1/groups/{name}/rehearsals', {
          params: { path: { name: group } },
          body: { rollout, runs, faults, seed: 1 },
        }),
      ),
  })
}

/** The rehearsal that came before a rollout; it never changes. */
export function useRehearsalOf(rollout: Rollout) {
  return useQuery({
    queryKey: ['rehearsal', rollout.number],
    queryFn: () =>
      take(api.GET('/v1/rollouts/{number}/rehearsal', { params: { path: { number: rollout.number } } })),
    enabled: rollout.rehearsal !== undefined,
    staleTime: Infinity,
  })
}

export function useReplay(rollout: Rollout) {
  return useMutation({
    mutationFn: () =>
      take(api.POST('/v1/rollouts/{number}/replay', { params: { path: { number: rollout.number } } })),
  })
}

/** What the new instances of a rollout that went wrong had in common. */
export function useFindings(rollout: Rollout, wanted: boolean) {
  return useQuery({
    queryKey: ['live', 'findings', rollout.number],
    queryFn: () =>
      take(api.GET('/v1/rollouts/{number}/findings', { params: { path: { number: rollout.number } } })),
    enabled: wanted,
  })
}
