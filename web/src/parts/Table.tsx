import { Table as Plain, type TableProps } from 'antd'

// What is around a table for when it loads would have all of it read aloud at each change.
const quiet = { spinning: false, 'aria-live': 'off' } as const

/** A table that is not read aloud by itself. */
export function Table<T extends object>(props: TableProps<T>) {
  return <Plain<T> loading={quiet} {...props} />
}
