import { Button, InputNumber, Select } from 'antd'

/** A wave as a form has it: how far it goes, and a soak of its own in seconds, or null. */
export interface WaveRow {
  far: number | null
  of: '%' | 'instances'
  soak: number | null
}

const units: Record<string, number> = { h: 3600, m: 60, s: 1, ms: 0.001 }

/** Reads a wave as the contract writes it, such as 25% or 1:2m30s. */
export function waveFrom(text: string): WaveRow {
  const [far = '', soak] = text.split(':')
  const seconds = soak
    ?.match(/[\d.]+[a-z]+/g)
    ?.reduce((sum, part) => sum + parseFloat(part) * (units[part.replace(/[\d.]/g, '')] ?? 0), 0)
  return {
    far: parseFloat(far),
    of: far.endsWith('%') ? '%' : 'instances',
    soak: seconds ?? null,
  }
}

/** A wave as the contract writes it; what was left empty is refused there with its reason. */
export function waveTo({ far, of, soak }: WaveRow): string {
  return `${far ?? ''}${of === '%' ? '%' : ''}${soak === null ? '' : `:${soak}s`}`
}

/** Waves in rows, the control of a form's field. */
export function WaveRows({
  id = 'waves',
  value = [],
  onChange,
}: {
  id?: string
  value?: WaveRow[]
  onChange?: (rows: WaveRow[]) => void
}) {
  const put = (k: number, part: Partial<WaveRow>) =>
    onChange?.(value.map((w, i) => (i === k ? { ...w, ...part } : w)))
  const add = () => {
    const before = value.slice(0, -1)
    const last = value.at(-1) ?? { far: 100, of: '%', soak: null }
    onChange?.([...before, { far: 50, of: '%', soak: null }, last])
  }
  return (
    <div id={id} role="group" aria-label="Waves">
      {value.map((w, k) => (
        <div className="row tight" key={k}>
          <span className="quiet">{k === 0 ? 'first to' : 'then to'}</span>
          <InputNumber
            id={`${id}-${k}-far`}
            aria-label={`How far wave ${k + 1} goes`}
            min={0}
            max={w.of === '%' ? 100 : 10_000}
            value={w.far}
            onChange={(far) => put(k, { far })}
          />
          <Select
            aria-label={`Of what wave ${k + 1} counts`}
            style={{ width: 120 }}
            value={w.of}
            options={[{ value: '%', label: '% of all' }, { value: 'instances' }]}
            onChange={(of) => put(k, { of })}
          />
          <InputNumber
            aria-label={`Soak of wave ${k + 1}, in seconds`}
            min={0}
            max={86400}
            value={w.soak}
            placeholder="as below"
            prefix="soaks"
            suffix="s"
            style={{ width: 170 }}
            onChange={(soak) => put(k, { soak })}
          />
          <Button
            size="small"
            aria-label={`Take away wave ${k + 1}`}
            disabled={value.length === 1}
            onClick={() => onChange?.(value.filter((_, i) => i !== k))}
          >
            ×
          </Button>
        </div>
      ))}
      <Button size="small" id={`${id}-add`} onClick={add}>
        Add a wave
      </Button>
    </div>
  )
}
