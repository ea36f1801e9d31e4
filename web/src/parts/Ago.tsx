import { Tooltip } from 'antd'
import { useNow } from './now'
import { exact, secondsBetween, span } from './words'

/** A time as how long ago, with the exact one on hover or focus; only this listens to the clock. */
export function Ago({ at }: { at: string }) {
  const now = useNow()
  return (
    <Tooltip title={exact(at)} trigger={['hover', 'focus']}>
      <time dateTime={at} tabIndex={0}>
        {span(Math.max(0, Math.floor(secondsBetween(at, now))))} ago
      </time>
    </Tooltip>
  )
}
