import { useEffect } from 'react'

/** Gives the tab its title, the state before the name, so that it is seen among many. */
export function useTitle(title: string) {
  useEffect(() => {
    document.title = title ? `${title} · Unitas` : 'Unitas'
  }, [title])
}
