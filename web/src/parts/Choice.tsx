import { useId } from 'react'

interface Props<T> {
  label: string
  value: T
  onChange: (value: T) => void
  options: { value: T; label: string }[]
}

/** One of a few, all in sight. */
export function Choice<T extends string | number>({ label, value, onChange, options }: Props<T>) {
  const name = useId()
  return (
    <span className="few" role="radiogroup" aria-label={label}>
      {options.map((o) => (
        <label key={o.value} className={o.value === value ? 'chosen' : ''}>
          <input type="radio" name={name} checked={o.value === value} onChange={() => onChange(o.value)} />
          {o.label}
        </label>
      ))}
    </span>
  )
}

/** One of several, of which the others are out of sight. */
export function Pick<T extends string | number>({ label, value, onChange, options }: Props<T>) {
  return (
    <select
      className="pick"
      aria-label={label}
      value={value}
      onChange={(e) => {
        const chosen = options.find((o) => String(o.value) === e.target.value)
        if (chosen) onChange(chosen.value)
      }}
    >
      {options.map((o) => (
        <option key={o.value} value={o.value}>
          {o.label}
        </option>
      ))}
    </select>
  )
}
