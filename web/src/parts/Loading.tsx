/** What is not there yet: as many lines as there will be about, and no more of a spectacle. */
export function Loading({ lines = 3 }: { lines?: number }) {
  return (
    <div className="loading" role="status" aria-label="Loading">
      {Array.from({ length: lines }, (_, k) => (
        <span key={k} style={{ width: `${92 - ((k * 23) % 40)}%` }} />
      ))}
    </div>
  )
}
