import { Button, Form, Input, Modal, Select, Space } from 'antd'
import { useState } from 'react'
import { Refused, type Group, type NewRollout } from '../api/client'
import { useTemplateDiff } from '../api/catalogue'
import { useStartRollout, useTemplateVersions, useWouldBegin } from '../api/queries'
import { useCourses, useRehearse, type Course } from '../api/rollouts'
import { Changes } from '../parts/Changes'
import {
  CourseFields,
  fieldsOf,
  HoursField,
  OrderFields,
  pick,
  settingsOf,
  usualCourse,
  type CourseFieldsOf,
} from '../parts/CourseFields'
import { gateOf } from '../parts/GateFields'
import { RehearsalView } from '../parts/Rehearsal'
import { Draft, sentThen } from '../parts/Draft'
import { Trouble } from '../parts/Trouble'
import { here, versionNumber } from '../parts/words'

interface Fields extends CourseFieldsOf {
  to: string
  course?: string
  leaveOut: string[]
  startAt: string
  faults: string[]
}

const usual = { ...usualCourse, leaveOut: [], startAt: '', faults: [] }

function bodyOf(f: Fields, supersede: boolean, course: Course | undefined): NewRollout {
  // What stands as the course has it is left to the course.
  const asIs =
    course && JSON.stringify(fieldsOf(course)) === JSON.stringify({ ...pick(f), gates: f.gates.map(gateOf) })
  return {
    to: f.to,
    ...(f.course ? { course: f.course } : {}),
    ...(asIs ? {} : settingsOf(f)),
    ...(f.leaveOut.length > 0 ? { exclude: f.leaveOut } : {}),
    ...(f.startAt ? { start_at: new Date(f.startAt).toISOString() } : {}),
    ...(supersede ? { supersede } : {}),
  }
}

interface Props {
  group: Group
  instances: string[]
  /** A rollout is under way, and this one takes its place. */
  supersede?: boolean
  onClose: () => void
}

/** What is offered: the version after the running one, or else the newest. */
function versionAfter(running: string, others: string[]): string | undefined {
  const later = others.filter((v) => versionNumber(v) > versionNumber(running))
  return later.sort((a, b) => versionNumber(a) - versionNumber(b))[0] ?? others[0]
}

/** What is different in the version that is gone to, and what speaks against it. */
function Difference({ group, to, supersede }: { group: Group; to: string; supersede: boolean }) {
  const name = group.template.split('@')[0] ?? ''
  const diff = useTemplateDiff(name, versionNumber(group.template), versionNumber(to))
  const would = useWouldBegin(group.name, to, supersede)
  return (
    <div style={{ marginBottom: 16 }}>
      {would.data?.advice?.map((text) => (
        <p key={text} className="waiting" role="status">
          ▲ {here(text)}
        </p>
      ))}
      {diff.data && <Changes changes={diff.data.changes} was={group.template} now={to} />}
    </div>
  )
}

/** Asks what a rollout needs, says what each answer means, and rehearses it before it is begun. */
export function StartRollout({ group, instances, supersede = false, onClose }: Props) {
  const [form] = Form.useForm<Fields>()
  const [more, setMore] = useState(false)
  const templates = useTemplateVersions(group.template.split('@')[0] ?? '')
  const courses = useCourses()
  const start = useStartRollout(group.name)
  const rehearse = useRehearse(group.name)
  const pace = Form.useWatch('pace', form)
  const others = (templates.data ?? [])
    .map((t) => ({
      value: `${t.name}@${t.version}`,
      label: `${t.name}@${t.version}  ${t.image}${t.note ? `: ${t.note}` : ''}${`${t.name}@${t.version}` === group.last_good ? ' (the last good one)' : ''}${group.doubted.includes(`${t.name}@${t.version}`) ? ' (was held or taken back here)' : ''}`,
    }))
    .filter((t) => supersede || t.value !== group.template)
  const courseNamed = (name: string | undefined) => courses.data?.find((c) => c.name === name)
  const body = (f: Fields) => bodyOf({ ...usual, ...f }, supersede, courseNamed(f.course))
  const refused = (e: Error) => {
    if (!(e instanceof Refused)) return
    for (const field of ['to', 'waves', 'above', 'below', 'hours'] as const) {
      const text = e.about(field) ?? e.about(`rollout/${field}`)
      if (text) form.setFields([{ name: field, errors: [text] }])
    }
  }
  const initial = courseNamed(group.course)
  const next = versionAfter(
    group.template,
    others.map((o) => o.value),
  )
  const draft = `rollout of ${group.name} from ${group.template}`
  const to = Form.useWatch<string | undefined>('to', form)
  return (
    <Modal
      open
      width={760}
      title={`Replace the ${group.size} instances of ${group.name}`}
      cancelText="Cancel"
      onCancel={onClose}
      footer={[
        <Button key="cancel" onClick={onClose}>
          Cancel
        </Button>,
        <Button
          key="rehearse"
          loading={rehearse.isPending}
          onClick={() =>
            void form.validateFields().then((f) => {
              const all = { ...usual, ...f }
              rehearse.mutate({ rollout: body(f), runs: 20, faults: all.faults }, { onError: refused })
            })
          }
        >
          Rehearse it
        </Button>,
        <Button key="start" type="primary" loading={start.isPending} onClick={() => form.submit()}>
          Start the rollout
        </Button>,
      ]}
    >
      {supersede && (
        <p className="waiting">
          ▲ The rollout that is under way ends, and this one goes on from where things stand.
        </p>
      )}
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={(f) =>
          start.mutate(body(f), {
            onSuccess: sentThen(draft, onClose),
            onError: refused,
          })
        }
        initialValues={{
          ...usual,
          ...(initial ? { ...fieldsOf(initial), course: initial.name } : {}),
          ...(next ? { to: next } : {}),
        }}
        key={`${next ?? 'none'} ${initial?.name ?? ''}`}
      >
        <Form.Item
          name="to"
          label="Template version to go to"
          extra={`The group is on ${group.template}.`}
          rules={[{ required: true, message: 'Choose a version.' }]}
        >
          <Select
            options={others}
            loading={templates.isPending}
            notFoundContent={`There is no other version of this template; make one with: unitas template revise`}
          />
        </Form.Item>
        {to !== undefined && <Difference group={group} to={to} supersede={supersede} />}
        {(courses.data ?? []).length > 0 && (
          <Form.Item
            name="course"
            label="Course"
            extra="Settings that were saved by name; they fill in what follows."
          >
            <Select
              allowClear
              options={(courses.data ?? []).map((c) => ({
                value: c.name,
                label: `${c.name}: ${c.settings.note || c.settings.waves.join(', ')}`,
              }))}
              onChange={(name: string | undefined) => {
                const c = courseNamed(name)
                form.setFieldsValue(c ? fieldsOf(c) : usualCourse)
              }}
            />
          </Form.Item>
        )}
        <CourseFields size={group.size} />
        <Button
          type="link"
          size="small"
          style={{ padding: 0 }}
          onClick={() => setMore(!more)}
          aria-expanded={more}
        >
          {more ? '▾' : '▸'} Order, pace, hours, what is left out, and faults to rehearse
        </Button>
        <div style={{ display: more ? 'block' : 'none', marginTop: 8 }}>
          <OrderFields pace={pace} />
          <Space size="large" align="start" wrap>
            <HoursField />
            <Form.Item name="startAt" label="Begins at" extra="Empty for now; your local time.">
              <Input type="datetime-local" style={{ width: 220 }} />
            </Form.Item>
          </Space>
          <Form.Item name="leaveOut" label="Instances that stay as they are" extra="Pinned ones always do.">
            <Select mode="multiple" options={instances.map((value) => ({ value }))} />
          </Form.Item>
          <Form.Item
            name="faults"
            label="What goes wrong in the rehearsal"
            extra="Type any: zone=mid-pier@wave2, new-version-unhealthy, new-version-crashes-after=20s, slow-boots=3x, errors=2%, service-down=10m."
          >
            <Select
              mode="tags"
              options={[
                ...group.zones.map((z) => `zone=${z}@wave2`),
                'new-version-unhealthy',
                'new-version-crashes-after=20s',
                'slow-boots=3x',
                'errors=2%',
                'service-down=10m',
              ].map((value) => ({ value }))}
            />
          </Form.Item>
        </div>
        <Trouble error={start.error ?? rehearse.error} />
        {rehearse.data && <RehearsalView of={rehearse.data} />}
        <Draft of={draft} />
      </Form>
    </Modal>
  )
}
