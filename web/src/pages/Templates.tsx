import { Button } from 'antd'
import { Link } from 'react-router'
import type { Template } from '../api/client'
import { useTemplates } from '../api/catalogue'
import { useInstances } from '../api/queries'
import { Page } from '../parts/Page'
import { Ago } from '../parts/Ago'
import { Marks } from '../parts/Marks'
import { StateWord } from '../parts/StateWord'
import { useTitle } from '../parts/title'
import { Trouble } from '../parts/Trouble'
import { count, size } from '../parts/words'
import { Table } from '../parts/Table'

/** All templates, each with its latest version. */
export function Templates() {
  useTitle('Templates')
  const templates = useTemplates()
  const instances = useInstances()
  const all = templates.data ?? []
  const latest = all.filter((t, i) => all[i - 1]?.name !== t.name)
  const running = (name: string) =>
    (instances.data ?? []).filter((i) => i.version.startsWith(`${name}@`)).length
  return (
    <Page>
      <div className="row">
        <h1 className="sentence">
          {templates.data ? `${count(latest.length, 'template')} in ${count(all.length, 'version')}.` : ' '}
        </h1>
        <span style={{ flex: 1 }} />
        <Link to="/templates/new">
          <Button type="primary">New template</Button>
        </Link>
      </div>
      <Trouble error={templates.error} />
      <Table<Template>
        size="small"
        rowKey="name"
        loading={templates.isPending}
        pagination={false}
        dataSource={latest}
        locale={{
          emptyText: 'Here every template has a line. It says everything that one launch needs.',
        }}
        columns={[
          {
            title: 'Template',
            render: (_, t) => (
              <>
                <Link to={`/templates/${t.name}`}>{t.name}</Link>
                <Marks marks={t.marks} />
              </>
            ),
          },
          { title: 'Latest', align: 'right', render: (_, t) => t.version },
          { title: 'State', render: (_, t) => <StateWord state={t.state} /> },
          {
            title: 'Image',
            render: (_, t) => <Link to={`/images/${t.image.replace('@', '/')}`}>{t.image}</Link>,
          },
          { title: 'CPUs', align: 'right', dataIndex: 'cpus' },
          { title: 'Memory', align: 'right', render: (_, t) => size(t.memory_bytes) },
          { title: 'Instances', align: 'right', render: (_, t) => running(t.name) },
          { title: 'Made', render: (_, t) => <Ago at={t.created_at} /> },
          { title: 'Note', dataIndex: 'note' },
        ]}
      />
    </Page>
  )
}
