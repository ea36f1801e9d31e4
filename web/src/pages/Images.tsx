import { Button } from 'antd'
import { useDeferredValue, useState } from 'react'
import { Link } from 'react-router'
import type { Image } from '../api/client'
import { useImages } from '../api/catalogue'
import { Pick } from '../parts/Choice'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { Marks } from '../parts/Marks'
import { StateWord } from '../parts/StateWord'
import { useTitle } from '../parts/title'
import { Search } from '../parts/Search'
import { Trouble } from '../parts/Trouble'
import { count, list, size } from '../parts/words'
import { BakeImage, BringImage } from './BringImage'
import { Table } from '../parts/Table'

const states = ['baking', 'ready', 'broken', 'withdrawn'] as const
const origins = ['provided', 'imported', 'baked', 'from-instance'] as const

/** The catalogue of image versions, with search. */
export function Images() {
  useTitle('Images')
  const [text, setText] = useState('')
  const [state, setState] = useState<Image['state'] | ''>('')
  const [origin, setOrigin] = useState<Image['origin'] | ''>('')
  const [age, setAge] = useState<number | ''>('')
  const [bringing, setBringing] = useState<'import' | 'bake' | null>(null)
  const [limit, setLimit] = useState(100)
  const images = useImages({ text: useDeferredValue(text), state, origin, age, limit })
  const items = images.data?.items ?? []
  const searched = text !== '' || state !== '' || origin !== '' || age !== ''
  return (
    <Page>
      <div className="row">
        <h1 className="sentence">{images.data ? headline(items, Boolean(images.data.next)) : ' '}</h1>
        <span style={{ flex: 1 }} />
        <Button onClick={() => setBringing('bake')}>Bake one…</Button>
        <Button type="primary" onClick={() => setBringing('import')}>
          Bring one in…
        </Button>
      </div>
      {bringing === 'import' && <BringImage onClose={() => setBringing(null)} />}
      {bringing === 'bake' && <BakeImage onClose={() => setBringing(null)} />}
      <div className="filters">
        <Search
          label="Search names and sources"
          hint="A name, a source, or a label such as service=timetable"
          value={text}
          onChange={setText}
        />
        <Pick
          label="State"
          value={state}
          onChange={setState}
          options={[{ value: '', label: 'Any state' }, ...states.map((s) => ({ value: s, label: s }))]}
        />
        <Pick
          label="Origin"
          value={origin}
          onChange={setOrigin}
          options={[{ value: '', label: 'Any origin' }, ...origins.map((s) => ({ value: s, label: s }))]}
        />
        <Pick
          label="Age"
          value={age}
          onChange={setAge}
          options={[
            { value: '', label: 'Any age' },
            { value: 1, label: 'the last day' },
            { value: 7, label: 'the last week' },
            { value: -30, label: 'over 30 days' },
            { value: -180, label: 'over 180 days' },
          ]}
        />
      </div>
      <Trouble error={images.error} />
      <Table<Image>
        size="small"
        rowKey={(i) => `${i.name}@${i.version}`}
        loading={images.isPending}
        pagination={false}
        dataSource={items}
        locale={{
          emptyText: searched ? (
            'No image fits this search.'
          ) : (
            <>
              Here every image version has a line. Bring one in with{' '}
              <code>unitas image import NAME --from FILE</code>.
            </>
          ),
        }}
        columns={[
          {
            title: 'Image',
            render: (_, i) => (
              <>
                <Link to={`/images/${i.name}/${i.version}`}>
                  {i.name}@{i.version}
                </Link>
                <Marks marks={i.marks} />
              </>
            ),
          },
          { title: 'State', render: (_, i) => <StateWord state={i.state} /> },
          { title: 'Origin', render: (_, i) => (i.parent ? `${i.origin} on ${i.parent}` : i.origin) },
          { title: 'In', render: (_, i) => i.places.map((p) => p.region).join(', ') },
          { title: 'Size', align: 'right', render: (_, i) => (i.digest ? size(i.size_bytes) : '—') },
          { title: 'Made', render: (_, i) => <Ago at={i.created_at} /> },
          { title: 'By', dataIndex: 'created_by' },
        ]}
      />
      {images.data?.next && limit < 1000 && (
        <Button onClick={() => setLimit(Math.min(limit * 3, 1000))}>Show more</Button>
      )}
    </Page>
  )
}

function headline(items: Image[], more: boolean): string {
  const names = new Set(items.map((i) => i.name)).size
  const parts = states
    .map((s) => [s, items.filter((i) => i.state === s).length] as const)
    .filter(([s, n]) => n > 0 && s !== 'ready')
    .map(([s, n]) => `${n} ${s}`)
  if (items.length === 0) return 'No images.'
  const all = `${more ? 'The first ' : ''}${count(items.length, 'version')} of ${count(names, 'image')}`
  return parts.length ? `${all}, ${list(parts)}.` : `${all}, all ready.`
}
