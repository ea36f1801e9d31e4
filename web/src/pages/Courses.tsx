import { Button, Form, Input, Modal } from 'antd'
import { useState } from 'react'
import { useCourses, useDeleteCourse, useSaveCourse, type Course } from '../api/rollouts'
import { Loading } from '../parts/Loading'
import {
  CourseFields,
  fieldsOf,
  HoursField,
  OrderFields,
  settingsOf,
  usualCourse,
  type CourseFieldsOf,
} from '../parts/CourseFields'
import { Page } from '../parts/Page'
import { useTitle } from '../parts/title'
import { Draft, sentThen } from '../parts/Draft'
import { Raced, useSeen } from '../parts/Stale'
import { Trouble } from '../parts/Trouble'
import { span } from '../parts/words'
import { Sure } from '../parts/Sure'
import { Table } from '../parts/Table'

/** Settings of rollouts, saved by name. */
export function Courses() {
  useTitle('Courses')
  const courses = useCourses()
  const remove = useDeleteCourse()
  const [editing, setEditing] = useState<Course | 'new' | null>(null)
  return (
    <Page>
      <h1>Courses</h1>
      <p className="sentence">
        {courses.data?.length
          ? 'Settings of rollouts, saved by name. A group may have a usual one.'
          : 'No course is saved. One keeps the waves, soaks and gates of rollouts under a name.'}
      </p>
      <Trouble error={courses.error ?? remove.error} />
      {courses.data ? (
        courses.data.length > 0 && (
          <Table<Course>
            size="small"
            rowKey="name"
            pagination={false}
            dataSource={courses.data}
            style={{ marginBottom: 12 }}
            columns={[
              { title: 'Course', dataIndex: 'name' },
              { title: 'Waves', render: (_, c) => c.settings.waves.join(', ') },
              { title: 'Above', align: 'right', render: (_, c) => c.settings.above },
              { title: 'Below', align: 'right', render: (_, c) => c.settings.below },
              { title: 'Soak', align: 'right', render: (_, c) => span(c.settings.soak_seconds) },
              { title: 'Gates', render: (_, c) => c.settings.gates.map((g) => g.kind).join(', ') || 'none' },
              { title: 'Order', render: (_, c) => `${c.settings.order}, ${c.settings.pace}` },
              { title: 'Hours', render: (_, c) => c.settings.hours || 'any' },
              { title: 'Usual one of', render: (_, c) => c.used_by.join(', ') },
              { title: 'Note', render: (_, c) => c.settings.note },
              {
                title: <span className="unseen">Acts</span>,
                render: (_, c) => (
                  <span className="row">
                    <Button size="small" onClick={() => setEditing(c)} aria-label={`Change ${c.name}`}>
                      Change…
                    </Button>
                    <Sure
                      title={`Forget ${c.name}?`}
                      description="Rollouts that went by it stay as they are."
                      okText="Forget it"
                      onConfirm={() => remove.mutate(c)}
                    >
                      <Button size="small" danger>
                        Forget…
                      </Button>
                    </Sure>
                  </span>
                ),
              },
            ]}
          />
        )
      ) : (
        <Loading />
      )}
      <Button onClick={() => setEditing('new')}>Save a course…</Button>
      {editing && (
        <CourseForm
          was={editing === 'new' ? null : (courses.data?.find((c) => c.name === editing.name) ?? editing)}
          onClose={() => setEditing(null)}
        />
      )}
    </Page>
  )
}

type Fields = CourseFieldsOf & { name: string; note: string }

const lines: Record<string, (c: Course | null) => string> = {
  Waves: (c) => c?.settings.waves.join(', ') ?? 'gone',
  Above: (c) => String(c?.settings.above),
  Below: (c) => String(c?.settings.below),
  Soak: (c) => `${c?.settings.soak_seconds ?? 0} s`,
  Gates: (c) => c?.settings.gates.map((g) => g.kind).join(', ') || 'none',
  Order: (c) => c?.settings.order ?? '',
  Pace: (c) => c?.settings.pace ?? '',
  Hours: (c) => c?.settings.hours || 'any',
  Note: (c) => c?.settings.note || 'none',
  Revision: (c) => String(c?.revision ?? 0),
}

const formOf = (c: Course): Fields => ({ ...fieldsOf(c), name: c.name, note: c.settings.note })

function CourseForm({ was: now, onClose }: { was: Course | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const race = useSeen(now, lines)
  const was = race.seen
  const draft = `course ${was?.name ?? ''} ${String(was?.revision ?? 0)}`
  const save = useSaveCourse()
  const pace = Form.useWatch('pace', form)
  return (
    <Modal
      open
      width={760}
      title={was ? `Change ${was.name}` : 'A course'}
      okText="Save it"
      okButtonProps={{ disabled: race.changed.length > 0 }}
      confirmLoading={save.isPending}
      onOk={() => form.submit()}
      onCancel={onClose}
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={was ? formOf(was) : { ...usualCourse, note: '' }}
        onFinish={(f) =>
          save.mutate(
            { name: was?.name ?? f.name, was, body: { ...settingsOf(f), note: f.note } },
            {
              onSuccess: sentThen(draft, onClose),
            },
          )
        }
      >
        {!was && (
          <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give it a name.' }]}>
            <Input placeholder="careful" />
          </Form.Item>
        )}
        <CourseFields size={undefined} />
        <OrderFields pace={pace} />
        <HoursField />
        <Form.Item name="note" label="Note">
          <Input />
        </Form.Item>
        <Raced
          race={race}
          onGo={() => {
            if (now) form.setFieldsValue(formOf(now))
          }}
        />
        <Trouble error={save.error} />
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
