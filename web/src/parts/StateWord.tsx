const signs: Record<string, string> = { baking: '…', ready: '', broken: '▲', withdrawn: '⊘' }

/** The state of an image or template version; good is silent. */
export function StateWord({ state }: { state: string }) {
  const tone = state === 'broken' ? 'trouble' : state === 'ready' ? '' : 'waiting'
  return (
    <span className={tone}>
      {signs[state] ?? ''} {state}
    </span>
  )
}
