const signs: Record<string, string> = {
  baking: '…',
  ready: '',
  good: '',
  undecided: '…',
  broken: '▲',
  withdrawn: '⊘',
  open: '◌',
  passed: '',
  failed: '▲',
  expired: '▲',
}

/** The state of an image or template version, of a gate, or of a ticket; what is well is silent. */
export function StateWord({ state }: { state: string }) {
  const tone = ['broken', 'failed'].includes(state)
    ? 'trouble'
    : ['ready', 'good', 'passed'].includes(state)
      ? ''
      : 'waiting'
  return (
    <span className={tone}>
      {signs[state] ?? ''} {state}
    </span>
  )
}
