import { useEffect, useState } from 'react'

/**
 * While something would end with the page: a link that leads away is not followed but told, for
 * whoever asks; to close the tab the browser itself asks.
 */
export function useLeaving(ends: boolean) {
  const [to, setTo] = useState<string>()
  useEffect(() => {
    if (!ends) return
    const unload = (e: BeforeUnloadEvent) => e.preventDefault()
    const click = (e: MouseEvent) => {
      const link = e.target instanceof Element ? e.target.closest<HTMLAnchorElement>('a[href]') : null
      if (!link || e.ctrlKey || e.metaKey || e.shiftKey || link.target === '_blank') return
      if (link.origin !== location.origin || link.pathname === location.pathname) return
      e.preventDefault()
      e.stopPropagation()
      setTo(link.pathname + link.search)
    }
    window.addEventListener('beforeunload', unload)
    document.addEventListener('click', click, true)
    return () => {
      window.removeEventListener('beforeunload', unload)
      document.removeEventListener('click', click, true)
      setTo(undefined)
    }
  }, [ends])
  return { to, stay: () => setTo(undefined) }
}
