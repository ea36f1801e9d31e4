import { Button, Form, Input } from 'antd'
import { useState } from 'react'
import { api, Refused, take, token } from '../api/client'
import { Trouble } from '../parts/Trouble'

export function SignIn({ onDone }: { onDone: () => void }) {
  const [error, setError] = useState<Error | null>(null)
  const [busy, setBusy] = useState(false)
  const submit = async ({ secret }: { secret: string }) => {
    setBusy(true)
    token.set(secret.trim())
    try {
      await take(api.GET('/v1/service'))
      onDone()
    } catch (e) {
      token.clear()
      setError(e instanceof Refused ? e : new Error('The service is not reached.'))
    } finally {
      setBusy(false)
    }
  }
  return (
    <main className="sign-in">
      <h1>Unitas</h1>
      <p className="quiet">
        Sign in with a token. The service wrote the first one to the file <code>token</code> in its data
        directory when it first started.
      </p>
      <Form<{ secret: string }> layout="vertical" onFinish={(v) => void submit(v)} requiredMark={false}>
        <input type="text" autoComplete="username" value="token" readOnly hidden />
        <Form.Item name="secret" label="Token" rules={[{ required: true, message: 'Paste the token here.' }]}>
          <Input.Password size="large" autoFocus autoComplete="current-password" />
        </Form.Item>
        <Trouble error={error} />
        <Form.Item style={{ marginTop: 16 }}>
          <Button type="primary" size="large" htmlType="submit" loading={busy}>
            Sign in
          </Button>
        </Form.Item>
      </Form>
    </main>
  )
}
