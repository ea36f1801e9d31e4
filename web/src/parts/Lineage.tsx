import { useNavigate } from 'react-router'
import type { Image } from '../api/client'

const rowHeight = 40
const indent = 46
const width = 260

interface Placed {
  image: Image
  ref: string
  row: number
  depth: number
  parentRow: number | null
}

/** Versions drawn as a tree, each under the one that it was made from. */
export function Lineage({ images, at }: { images: Image[]; at: string }) {
  const navigate = useNavigate()
  const placed = place(images)
  const deepest = Math.max(0, ...placed.map((p) => p.depth))
  return (
    <div className="lineage">
      <svg
        width={deepest * indent + width + 260}
        height={placed.length * rowHeight + 6}
        role="tree"
        aria-label="lineage"
      >
        {placed.map(
          (p) =>
            p.parentRow !== null && (
              <path
                key={`to ${p.ref}`}
                d={`M ${(p.depth - 1) * indent + 18} ${p.parentRow * rowHeight + 33} V ${p.row * rowHeight + 18} H ${p.depth * indent + 2}`}
              />
            ),
        )}
        {placed.map((p) => (
          <g
            key={p.ref}
            role="treeitem"
            tabIndex={0}
            aria-current={p.ref === at}
            className={p.ref === at ? 'here' : ''}
            cursor="pointer"
            transform={`translate(${p.depth * indent + 2}, ${p.row * rowHeight + 3})`}
            onClick={() => void navigate(`/images/${p.ref.replace('@', '/')}`)}
            onKeyDown={(e) => {
              if (e.key === 'Enter') void navigate(`/images/${p.ref.replace('@', '/')}`)
            }}
          >
            <rect width={width} height={30} rx={8} />
            <text x={12} y={20} fontWeight={p.ref === at ? 600 : 400}>
              {p.ref}
            </text>
            <text x={width - 12} y={20} textAnchor="end" className="quiet">
              {p.image.origin}
            </text>
            <text x={width + 12} y={20} className="quiet">
              {p.image.state === 'ready' ? p.image.marks.join(', ') : p.image.state}
            </text>
          </g>
        ))}
      </svg>
    </div>
  )
}

function place(images: Image[]): Placed[] {
  const refs = new Set(images.map((i) => `${i.name}@${i.version}`))
  const out: Placed[] = []
  const under = (parent: string | null, depth: number, parentRow: number | null) => {
    for (const image of images) {
      const its = image.parent && refs.has(image.parent) ? image.parent : null
      if (its !== parent) continue
      const ref = `${image.name}@${image.version}`
      const row = out.length
      out.push({ image, ref, row, depth, parentRow })
      under(ref, depth + 1, row)
    }
  }
  under(null, 0, null)
  return out
}
