import { useEffect, useState } from 'react'

/** The time in ms, told anew every half second, for what counts up on the page. */
export function useNow(): number {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 500)
    return () => clearInterval(timer)
  }, [])
  return now
}
