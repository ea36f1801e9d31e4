import { createContext, useContext, useEffect, useState } from 'react'
import type { Mode } from '../theme'

export const ModeContext = createContext<Mode>('light')
export const useMode = () => useContext(ModeContext)

const storage = 'unitas-mode'

/** Light or dark: what was chosen here, else what the system wants. */
export function useChosenMode(): [Mode, () => void] {
  const system = window.matchMedia('(prefers-color-scheme: dark)')
  const [mode, setMode] = useState<Mode>(() => {
    const stored = localStorage.getItem(storage)
    if (stored === 'light' || stored === 'dark') return stored
    return system.matches ? 'dark' : 'light'
  })
  useEffect(() => {
    document.documentElement.dataset.mode = mode
  }, [mode])
  return [
    mode,
    () => {
      const next = mode === 'dark' ? 'light' : 'dark'
      localStorage.setItem(storage, next)
      setMode(next)
    },
  ]
}
