import { Button, Input } from 'antd'
import { list } from './words'

/** A name with its value, as it is typed. */
export type Pair = [name: string, value: string]

export const pairsFrom = (m: Record<string, string>): Pair[] => Object.entries(m)

/** The pairs as the contract has them; rows in which nothing stands are none. */
export const pairsTo = (rows: Pair[] | undefined): Record<string, string> =>
  Object.fromEntries(
    (rows ?? []).map(([n, v]) => [n.trim(), v] as Pair).filter(([n, v]) => n !== '' || v !== ''),
  )

/** What is wrong with rows, which nothing mends silently, or ''. */
export function pairsFault(rows: Pair[] | undefined): string {
  const names = (rows ?? []).filter(([n, v]) => n.trim() !== '' || v !== '').map(([n]) => n.trim())
  if (names.includes('')) return 'A value has no name; give it one, or take the row away.'
  const twice = [...new Set(names.filter((n, k) => names.indexOf(n) !== k))]
  return twice.length > 0
    ? `${list(twice)} ${twice.length === 1 ? 'stands' : 'stand'} there twice; keep one of them.`
    : ''
}

/** The rule of a form's field of pairs. */
export const goodPairs = {
  validator: (_: unknown, rows: Pair[] | undefined) => {
    const fault = pairsFault(rows)
    return fault === '' ? Promise.resolve() : Promise.reject(new Error(fault))
  },
}

interface Props {
  /** What one is called. */
  what: string
  /** What stands where a value is empty. */
  empty?: string
  id?: string
  value?: Pair[]
  onChange?: (rows: Pair[]) => void
}

/** Names and values in rows, the control of a form's field. */
export function PairRows({ what, empty = 'value', id = what, value = [], onChange }: Props) {
  const put = (k: number, part: 0 | 1, text: string) =>
    onChange?.(value.map((p, i) => (i !== k ? p : part === 0 ? [text, p[1]] : [p[0], text])))
  return (
    <div id={id} role="group" aria-label={`${what}s`}>
      {value.map(([n, v], k) => (
        <div className="row pair" key={k}>
          <Input
            id={`${id}-${k}-name`}
            aria-label={`Name of ${what} ${k + 1}`}
            placeholder="name"
            value={n}
            onChange={(e) => put(k, 0, e.target.value)}
          />
          <Input
            id={`${id}-${k}-value`}
            aria-label={`Value of ${what} ${k + 1}`}
            placeholder={empty}
            value={v}
            onChange={(e) => put(k, 1, e.target.value)}
          />
          <Button
            size="small"
            aria-label={`Take away ${what} ${n || k + 1}`}
            onClick={() => onChange?.(value.filter((_, i) => i !== k))}
          >
            ×
          </Button>
        </div>
      ))}
      <Button size="small" id={`${id}-add`} onClick={() => onChange?.([...value, ['', '']])}>
        Add a {what}
      </Button>
    </div>
  )
}
