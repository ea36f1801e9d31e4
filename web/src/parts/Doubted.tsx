import { Button } from 'antd'
import { useState } from 'react'
import type { Group } from '../api/client'
import { useChangeGroup } from '../api/keeping'
import { AskFirst } from './AskFirst'
import { Trouble } from './Trouble'
import { list } from './words'

/** The versions that a group was kept or taken back from, and the way to clear one. */
export function Doubted({ group }: { group: Group }) {
  const change = useChangeGroup()
  const [asked, setAsked] = useState<string | null>(null)
  if (group.doubted.length === 0) return null
  return (
    <>
      <p className="quiet row">
        ▲ {list(group.doubted)} {group.doubted.length === 1 ? 'was' : 'were'} held or taken back here: no
        revert brings {group.doubted.length === 1 ? 'it' : 'them'} back.
        {group.doubted.map((version) => (
          <Button key={version} size="small" onClick={() => setAsked(version)}>
            Clear {version}…
          </Button>
        ))}
      </p>
      <Trouble error={change.error} />
      {asked && (
        <AskFirst
          title={`Clear ${asked} in ${group.name}?`}
          verb="Clear it"
          names={[]}
          grave={false}
          does="It counts as any other version again. No instance is launched or stopped."
          mind={[]}
          onDo={(reason) => {
            change.mutate({ group, body: { trust: [asked], ...(reason ? { reason } : {}) }, dry: false })
            setAsked(null)
          }}
          onClose={() => setAsked(null)}
        />
      )}
    </>
  )
}
