/** What is looked for among many. */
export function Search({
  label,
  hint,
  value,
  onChange,
}: {
  label: string
  hint: string
  value: string
  onChange: (text: string) => void
}) {
  return (
    <input
      type="search"
      className="search"
      aria-label={label}
      placeholder={hint}
      value={value}
      onChange={(e) => {
        onChange(e.target.value)
      }}
    />
  )
}
