import type { Rollout } from '../api/client'

interface Props {
  rollout: Rollout
  serving: number
  comingUp: number
  size: number
}

/** A rollout as water rising through the group, with a mark for each wave. */
export function Tide({ rollout, serving, comingUp, size }: Props) {
  const width = 1000
  const x = (n: number) => (size === 0 ? 0 : Math.min(n / size, 1) * width)
  return (
    <svg
      className="tide"
      viewBox={`-2 0 ${width + 4} 62`}
      role="img"
      aria-label={`${serving} of ${size} on ${rollout.to}`}
    >
      <rect
        x="0"
        y="20"
        width={width}
        height="24"
        rx="3"
        fill="none"
        stroke="var(--rule)"
        strokeWidth="1.5"
      />
      <rect x="0" y="20" width={x(serving)} height="24" rx="3" fill="var(--deep)" />
      {comingUp > 0 && (
        <rect
          x={x(serving) + 2}
          y="22"
          width={Math.max(x(Math.min(serving + comingUp, size)) - x(serving) - 4, 0)}
          height="20"
          rx="2"
          fill="none"
          stroke="var(--deep)"
          strokeDasharray="5 4"
        />
      )}
      {rollout.waves.map((w, i) => {
        const at = x(w.up_to)
        const anchor = at > width - 60 ? 'end' : 'middle'
        const here = i === rollout.wave - 1 && !rollout.ended_at
        return (
          <g key={i}>
            <path d={`M${at} 14 V48`} stroke="var(--ink)" strokeWidth={here ? 2 : 1} />
            <text x={Math.max(at, 24)} y="10" textAnchor={anchor} fontWeight={here ? 600 : 400}>
              {w.wave}
            </text>
            <text x={Math.max(at, 24)} y="60" textAnchor={anchor} fontWeight={here ? 600 : 400}>
              {w.state}
            </text>
          </g>
        )
      })}
    </svg>
  )
}
