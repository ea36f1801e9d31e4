import { Button, Form, Input, Modal, Progress, Select } from 'antd'
import { useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { packed, send, useFetchImage, usePlaces } from '../api/catalogue'
import type { Image } from '../api/client'
import { Draft, dropDraft } from '../parts/Draft'
import { Trouble } from '../parts/Trouble'
import { size, span } from '../parts/words'

interface Fields {
  name: string
  region?: string
  reference?: string
  recipe?: string
}

const named = [{ required: true, message: 'Give it a name.' }]

const naming =
  'The next version is made under it. A lower-case letter, then letters, digits or hyphens; 63 at most, no hyphen at the end.'

/** Sends a file, or has the service fetch from a registry. */
export function BringImage({ onClose }: { onClose: () => void }) {
  const file = useRef<HTMLInputElement>(null)
  const fetching = useFetchImage()
  const [sending, setSending] = useState<{ sent: number; total: number; begun: number } | null>(null)
  const [error, setError] = useState<Error | null>(null)
  const done = useDone(onClose)
  const bring = (f: Fields) => {
    setError(null)
    const region = f.region ? { region: f.region } : {}
    if (f.reference) {
      fetching.mutate(
        { name: f.name, reference: f.reference, ...region },
        {
          onSuccess: (i) => {
            dropDraft('image')
            done(i)
          },
        },
      )
      return
    }
    const content = file.current?.files?.[0]
    if (!content) {
      setError(new Error('Choose a file, or give a reference.'))
      return
    }
    const total = content.size
    const begun = Date.now()
    setSending({ sent: 0, total, begun })
    send('images', { name: f.name, source: content.name, ...region }, content, (sent) =>
      setSending({ sent: Math.min(sent, total), total, begun }),
    )
      .then((i) => {
        dropDraft('image')
        done(i)
      }, setError)
      .finally(() => setSending(null))
  }
  return (
    <Modal open title="Bring an image in" footer={null} onCancel={onClose}>
      <Form<Fields> layout="vertical" requiredMark={false} onFinish={bring}>
        <Form.Item name="name" label="Name" extra={naming} rules={named}>
          <Input placeholder="timetable" />
        </Form.Item>
        <Form.Item
          label="File"
          extra="A gzip-compressed tar archive with unitas.yaml at its root, or the tar of an OCI image layout."
        >
          <input type="file" ref={file} aria-label="file" />
        </Form.Item>
        <Form.Item
          name="reference"
          label="Or a reference in a registry"
          extra="Such as registry.example/ferries/timetable:7; the service fetches it."
        >
          <Input />
        </Form.Item>
        <RegionField />
        {sending && <Sent {...sending} />}
        <Trouble error={error ?? fetching.error} />
        <Button type="primary" htmlType="submit" loading={sending !== null || fetching.isPending}>
          Bring it in
        </Button>
        <Draft of="image" />
      </Form>
    </Modal>
  )
}

function Sent({ sent, total, begun }: { sent: number; total: number; begun: number }) {
  const rate = sent / Math.max((Date.now() - begun) / 1000, 0.1)
  return (
    <p>
      <Progress percent={Math.floor((100 * sent) / Math.max(total, 1))} aria-label="sent" />
      {size(sent)} of {size(total)}, {size(Math.round(rate))}/s
      {rate > 0 && sent < total && `, about ${span((total - sent) / rate)} left`}
      {sent >= total && ', being checked'}
    </p>
  )
}

const sample = `parent: plain@1
files:
  - {from: timetable, to: timetable, mode: "0755"}
commands:
  - sha256sum timetable > checksum
start: [./timetable]
`

/** Sends a recipe with the files that it names. */
export function BakeImage({ onClose }: { onClose: () => void }) {
  const beside = useRef<HTMLInputElement>(null)
  const [error, setError] = useState<Error | null>(null)
  const [busy, setBusy] = useState(false)
  const done = useDone(onClose)
  const bake = async (f: Fields) => {
    setBusy(true)
    setError(null)
    try {
      const files = [...(beside.current?.files ?? [])].map((content) => ({ name: content.name, content }))
      const bundle = await packed([{ name: 'recipe.yaml', content: new Blob([f.recipe ?? '']) }, ...files])
      done(
        await send(
          'images/bakes',
          { name: f.name, source: 'the console', ...(f.region ? { region: f.region } : {}) },
          bundle,
          () => undefined,
        ),
      )
      dropDraft('recipe')
    } catch (e) {
      setError(e instanceof Error ? e : new Error(String(e)))
    } finally {
      setBusy(false)
    }
  }
  return (
    <Modal open title="Bake an image" footer={null} onCancel={onClose} width={640}>
      <Form<Fields>
        layout="vertical"
        requiredMark={false}
        onFinish={(f) => void bake(f)}
        initialValues={{ recipe: sample }}
      >
        <Form.Item name="name" label="Name" extra={naming} rules={named}>
          <Input placeholder="timetable" />
        </Form.Item>
        <Form.Item
          className="mono"
          name="recipe"
          label="Recipe"
          extra="Commands run unprivileged, without network, and write only to the image's own files."
        >
          <Input.TextArea rows={10} />
        </Form.Item>
        <Form.Item label="Files that it names" extra="They lie beside the recipe, by their names alone.">
          <input type="file" multiple ref={beside} aria-label="files beside the recipe" />
        </Form.Item>
        <RegionField />
        <Trouble error={error} />
        <Button type="primary" htmlType="submit" loading={busy}>
          Bake it
        </Button>
        <Draft of="recipe" />
      </Form>
    </Modal>
  )
}

function RegionField() {
  const places = usePlaces()
  const home = places.data?.find((r) => r.home)?.name ?? 'the first region'
  return (
    <Form.Item name="region" label="Region" extra="Where it is to be; it can be copied elsewhere later.">
      <Select allowClear placeholder={home} options={(places.data ?? []).map((r) => ({ value: r.name }))} />
    </Form.Item>
  )
}

/** To the page of what was made. */
function useDone(onClose: () => void) {
  const navigate = useNavigate()
  return (i: Image) => {
    onClose()
    void navigate(`/images/${i.name}/${i.version}`)
  }
}
