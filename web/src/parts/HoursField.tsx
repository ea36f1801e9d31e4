import { Input, Select } from 'antd'

/** Hours of the day as the contract writes them, such as 22:00-05:00 Europe/Paris, in parts. */
export function hoursFrom(text: string): { from: string; to: string; place: string } {
  const [hours = '', place = ''] = text.split(' ')
  const [from = '', to = ''] = hours.split('-')
  return { from, to, place }
}

/** The parts as the contract writes them; without hours it is any. */
export const hoursTo = (from: string, to: string, place: string) =>
  from || to ? `${from}-${to}${place ? ` ${place}` : ''}` : ''

const places = ['UTC', ...Intl.supportedValuesOf('timeZone').filter((p) => p !== 'UTC')]

/** Hours of the day, the control of a form's field. */
export function HoursOfDay({
  id = 'hours',
  value = '',
  onChange,
}: {
  id?: string
  value?: string
  onChange?: (text: string) => void
}) {
  const { from, to, place } = hoursFrom(value)
  return (
    <div className="row tight" id={id} role="group" aria-label="Hours of the day">
      <Input
        id={`${id}-from`}
        type="time"
        aria-label="From"
        style={{ width: 120 }}
        value={from}
        onChange={(e) => onChange?.(hoursTo(e.target.value, to, place))}
      />
      to
      <Input
        id={`${id}-to`}
        type="time"
        aria-label="To"
        style={{ width: 120 }}
        value={to}
        onChange={(e) => onChange?.(hoursTo(from, e.target.value, place))}
      />
      <Select
        showSearch
        aria-label="By the clocks of"
        style={{ width: 220 }}
        value={place || 'UTC'}
        options={places.map((p) => ({ value: p }))}
        onChange={(p) => onChange?.(hoursTo(from, to, p === 'UTC' ? '' : p))}
      />
    </div>
  )
}
