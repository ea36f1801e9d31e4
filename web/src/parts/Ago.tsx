import { Tooltip } from 'antd'
import { memo } from 'react'
import { Shown } from './Shown'
import { exact, secondsBetween, span } from './words'

/** A time as how long ago, with the exact one on hover or focus; only its words hear the clock. */
export const Ago = memo(function Ago({ at }: { at: string }) {
  return (
    <Tooltip title={exact(at)} trigger={['hover', 'focus']}>
      <time dateTime={at} tabIndex={0}>
        <Shown>{(now) => `${span(calmly(Math.max(0, secondsBetween(at, now))))} ago`}</Shown>
      </time>
    </Tooltip>
  )
})

/** Past a minute, whole minutes: what is long ago does not count seconds on the page. */
const calmly = (seconds: number) => Math.floor(seconds < 60 ? seconds : seconds - (seconds % 60))
