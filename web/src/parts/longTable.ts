/** What a table needs to stay quick when it has many rows: only those in sight are drawn. */
export function longTable(rows: number, width = 1180, height = 560) {
  return rows > 100
    ? { virtual: true, scroll: { x: width, y: height }, pagination: false as const }
    : { pagination: false as const }
}
