import { Input, Modal } from 'antd'
import { useState } from 'react'

interface Props {
  title: string
  verb: string
  /** Whom it is about, when they are several. */
  names: string[]
  does: string
  /** What speaks against it. */
  mind: string[]
  onDo: (reason: string) => void
  onClose: () => void
}

/** Asks once before an act, says what it does, and for the reason that the journal keeps. */
export function AskFirst({ title, verb, names, does, mind, onDo, onClose }: Props) {
  const [reason, setReason] = useState('')
  const go = () => onDo(reason.trim())
  return (
    <Modal open title={title} okText={verb} okButtonProps={{ danger: true }} onCancel={onClose} onOk={go}>
      {names.length > 0 && (
        <p>
          {names.slice(0, 20).join(', ')}
          {names.length > 20 && ` and ${String(names.length - 20)} more`}
        </p>
      )}
      <p>{does}</p>
      {mind.map((t) => (
        <p key={t} className="waiting">
          ▲ {t}
        </p>
      ))}
      <label>
        Reason, for the journal
        <Input
          autoFocus
          maxLength={500}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          onPressEnter={go}
        />
      </label>
    </Modal>
  )
}
