import { useMutation, useQueryClient } from '@tanstack/react-query'

/** Something that a person does; it changes what is shown live, unless it only asks. */
export function useAct<A, R>(act: (a: A) => Promise<R>, changes = true) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSettled: () => (changes ? client.invalidateQueries({ queryKey: ['live'] }) : undefined),
  })
}

/** The revision that a person saw; a change against an older one than there is is refused. */
export const seen = (o: { revision: number }) => ({ 'If-Match': `"${o.revision}"` })
