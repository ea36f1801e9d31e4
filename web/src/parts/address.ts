import { useState } from 'react'
import { useSearchParams } from 'react-router'

/**
 * A choice that stands in the address, so that it can be sent to somebody and come back to.
 * What is typed is kept here too, for the address follows later than the keys come.
 */
export function useChoice(name: string, usual = ''): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams()
  const [value, setValue] = useState(() => params.get(name) ?? usual)
  const set = (next: string) => {
    setValue(next)
    const after = new URLSearchParams(window.location.search)
    if (next === usual) after.delete(name)
    else after.set(name, next)
    setParams(after, { replace: true })
  }
  return [value, set]
}
