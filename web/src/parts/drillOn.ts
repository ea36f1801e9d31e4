import { useCallback } from 'react'
import type { Instance } from '../api/client'
import { useDrills } from '../api/keeping'

/** What is made of an instance on purpose now, in words; undefined for nothing. */
export function useDrillOn() {
  const drills = useDrills().data
  return useCallback(
    (i: Instance) => drills?.find((d) => d.instance === i.id || d.zone === i.zone)?.what,
    [drills],
  )
}
