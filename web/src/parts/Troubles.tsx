import { useService } from '../api/keeping'

/** What keeps the service from working as it should, on every page. */
export function Troubles() {
  const service = useService()
  return service.data?.troubles.map((text) => (
    <p key={text} className="drills trouble" role="alert">
      ▲ {text}
    </p>
  ))
}
