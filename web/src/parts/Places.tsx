import { usePlaces } from '../api/catalogue'
import { Loading } from './Loading'
import { Trouble } from './Trouble'
import { size } from './words'
import { Table } from './Table'

interface Row {
  region: string
  zone: string
  instances: number
  serving: number
  images: string
  bytes: string
}

/** Regions and zones with what runs there, and which images are near. */
export function Places() {
  const places = usePlaces()
  const rows = (places.data ?? []).flatMap((r) =>
    r.zones.map((z, k): Row => ({
      region: k > 0 ? '' : r.name + (r.home ? ' (home)' : ''),
      zone: z.name,
      instances: z.instances,
      serving: z.serving,
      images: k > 0 ? '' : String(r.images),
      bytes: k > 0 ? '' : size(r.image_bytes),
    })),
  )
  return (
    <>
      <Trouble error={places.error} />
      {!places.data && !places.error && <Loading />}
      {places.data && (
        <Table<Row>
          size="small"
          rowKey="zone"
          dataSource={rows}
          pagination={false}
          columns={[
            { title: 'Region', dataIndex: 'region' },
            { title: 'Zone', dataIndex: 'zone' },
            { title: 'Instances', align: 'right', dataIndex: 'instances' },
            { title: 'Serving', align: 'right', dataIndex: 'serving' },
            { title: 'Images', align: 'right', dataIndex: 'images' },
            { title: 'Their size', align: 'right', dataIndex: 'bytes' },
          ]}
        />
      )}
    </>
  )
}
