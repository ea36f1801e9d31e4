import { Input, Modal } from 'antd'
import { useState } from 'react'
import { draftOf, dropDraft, keepDraft } from './Draft'

interface Props {
  title: string
  verb: string
  /** Whom it is about, when they are several. */
  names: string[]
  does: string
  /** What speaks against it. */
  mind: string[]
  /** What is typed below it: a reason, unless something else is asked for. */
  asks?: string
  /** It stops machines or takes them out of traffic. */
  grave?: boolean
  onDo: (typed: string) => void
  onClose: () => void
}

/** Asks once before an act, and says what it does. */
export function AskFirst({
  title,
  verb,
  names,
  does,
  mind,
  asks = 'Reason, for the journal',
  grave = true,
  onDo,
  onClose,
}: Props) {
  const [typed, setTyped] = useState(() => (draftOf(title) as { typed: string } | undefined)?.typed ?? '')
  const go = () => {
    dropDraft(title)
    onDo(typed.trim())
  }
  const type = (text: string) => {
    setTyped(text)
    keepDraft(title, { typed: text })
  }
  return (
    <Modal open title={title} okText={verb} okButtonProps={{ danger: grave }} onCancel={onClose} onOk={go}>
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
        {asks}
        <Input
          autoFocus
          maxLength={500}
          value={typed}
          onChange={(e) => type(e.target.value)}
          onPressEnter={go}
        />
      </label>
    </Modal>
  )
}
