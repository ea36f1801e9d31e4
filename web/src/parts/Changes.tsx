import type { Change, TemplateDiff } from '../api/client'
import { Table } from './Table'

/** The fields that are different, side by side. */
export function Changes({ changes, was, now }: { changes: Change[]; was: string; now: string }) {
  if (changes.length === 0) return <p className="quiet">Nothing is different.</p>
  return (
    <Table<Change>
      size="small"
      rowKey="field"
      pagination={false}
      dataSource={changes}
      columns={[
        { title: 'Field', dataIndex: 'field' },
        { title: was, render: (_, c) => c.was || <span className="quiet">—</span> },
        { title: now, render: (_, c) => <strong>{c.now || '—'}</strong> },
      ]}
    />
  )
}

type Line = TemplateDiff['user_data'][number]

/** User data of both versions, line beside line. */
export function LineDiff({ lines, was, now }: { lines: Line[]; was: string; now: string }) {
  if (lines.length === 0) return null
  return (
    <>
      <h2>User data</h2>
      <table className="diff" aria-label={`user data of ${was} and ${now}`}>
        <tbody>
          {rows(lines).map(([a, b], i) => (
            <tr key={i}>
              <td className="n">{a?.was}</td>
              <td className={a?.kind === 'gone' ? 'gone' : ''}>
                {a ? `${a.kind === 'gone' ? '− ' : '  '}${a.text}` : ''}
              </td>
              <td className="n">{b?.now}</td>
              <td className={b?.kind === 'new' ? 'new' : ''}>
                {b ? `${b.kind === 'new' ? '+ ' : '  '}${b.text}` : ''}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}

/** Pairs what is gone with what is new in its place. */
function rows(lines: Line[]): [Line | undefined, Line | undefined][] {
  const out: [Line | undefined, Line | undefined][] = []
  let gone: Line[] = []
  let fresh: Line[] = []
  const flush = () => {
    for (let i = 0; i < Math.max(gone.length, fresh.length); i++) out.push([gone[i], fresh[i]])
    gone = []
    fresh = []
  }
  for (const line of lines) {
    if (line.kind === 'gone') gone.push(line)
    else if (line.kind === 'new') fresh.push(line)
    else {
      flush()
      out.push([line, line])
    }
  }
  flush()
  return out
}
