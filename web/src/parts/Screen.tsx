import '@xterm/xterm/css/xterm.css'
import { FitAddon } from '@xterm/addon-fit'
import { Terminal } from '@xterm/xterm'
import { useEffect, useRef } from 'react'
import type { ShellEnd } from '../api/instance'
import { useMode } from './mode'

const colours = {
  light: {
    background: '#fbfaf8',
    foreground: '#1b1a18',
    cursor: '#16618c',
    cursorAccent: '#fbfaf8',
    selectionBackground: '#b4d5e6',
  },
  dark: {
    background: '#14171a',
    foreground: '#e8e6e1',
    cursor: '#8fd0f2',
    cursorAccent: '#14171a',
    selectionBackground: '#25506a',
  },
}

/**
 * A terminal on the stream of a shell, as wide as there is room. onOver is told how the
 * command ended; undefined when the connection was cut before.
 */
export function Screen({ stream, onOver }: { stream: string; onOver: (how?: ShellEnd) => void }) {
  const box = useRef<HTMLDivElement>(null)
  const tell = useRef(onOver)
  const mode = useMode()
  const screen = useRef<Terminal>(null)
  useEffect(() => {
    tell.current = onOver
  })
  useEffect(() => {
    if (screen.current) screen.current.options.theme = colours[mode]
  }, [mode])
  useEffect(() => {
    const at = box.current
    if (!at) return
    const terminal = new Terminal({
      fontFamily: 'ui-monospace, monospace',
      fontSize: 13,
      minimumContrastRatio: 4.5,
      screenReaderMode: true,
      scrollback: 5000,
      theme: colours[document.documentElement.dataset.mode === 'dark' ? 'dark' : 'light'],
    })
    screen.current = terminal
    const fit = new FitAddon()
    terminal.loadAddon(fit)
    terminal.open(at)
    fit.fit()
    // A way out for who has no mouse; no shell misses it much.
    terminal.attachCustomKeyEventHandler((e) => !(e.key === 'Tab' && e.shiftKey))
    const url = new URL(stream, window.location.href)
    url.protocol = url.protocol.replace('http', 'ws')
    const wire = new WebSocket(url)
    wire.binaryType = 'arraybuffer'
    const encoder = new TextEncoder()
    let over = false
    const end = (how?: ShellEnd) => {
      if (!over) tell.current(how)
      over = true
    }
    const send = (data: string | Uint8Array<ArrayBuffer>) => {
      if (wire.readyState === WebSocket.OPEN) wire.send(data)
    }
    const size = () => {
      send(JSON.stringify({ columns: terminal.cols, rows: terminal.rows }))
    }
    wire.onopen = () => {
      size()
      terminal.focus()
    }
    wire.onmessage = (e: MessageEvent<string | ArrayBuffer>) => {
      if (typeof e.data === 'string') end(JSON.parse(e.data) as ShellEnd)
      else terminal.write(new Uint8Array(e.data))
    }
    wire.onclose = () => {
      end()
    }
    terminal.onData((typed) => {
      send(encoder.encode(typed))
    })
    terminal.onResize(size)
    const room = new ResizeObserver(() => {
      fit.fit()
    })
    room.observe(at)
    return () => {
      over = true // who left need not be told
      room.disconnect()
      wire.close()
      terminal.dispose()
      screen.current = null
    }
  }, [stream])
  return <div ref={box} className="screen" data-testid="screen" />
}
