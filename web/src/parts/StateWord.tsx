const signs: Record<string, string> = {
  baking: '…',
  ready: '',
  good: '',
  undecided: '…',
  broken: '▲',
  withdrawn: '⊘',
}

/** The state of an image or template version, or of a gate; what is well is silent. */
export function StateWord({ state }: { state: string }) {
  const tone = state === 'broken' ? 'trouble' : state === 'ready' || state === 'good' ? '' : 'waiting'
  return (
    <span className={tone}>
      {signs[state] ?? ''} {state}
    </span>
  )
}
