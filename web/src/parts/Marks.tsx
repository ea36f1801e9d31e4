/** The marks on a version, as small labels. */
export function Marks({ marks }: { marks: string[] }) {
  return marks.map((m) => (
    <span key={m} className="mark" title={`the mark ${m} is on this version`}>
      {m}
    </span>
  ))
}
