import { Tooltip } from 'antd'
import { exact, secondsBetween, span } from './words'

/** A time as how long ago, with the exact one on hover or focus. */
export function Ago({ at, now }: { at: string; now: number }) {
  return (
    <Tooltip title={exact(at)} trigger={['hover', 'focus']}>
      <time dateTime={at} tabIndex={0}>
        {span(Math.max(0, Math.floor(secondsBetween(at, now))))} ago
      </time>
    </Tooltip>
  )
}
