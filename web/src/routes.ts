import type { ComponentType } from 'react'

/** Each page comes when it is looked at, and no page brings another's parts. */
export const routes: Record<string, () => Promise<ComponentType>> = {
  '/': async () => (await import('./pages/Groups')).Groups,
  '/new-group': async () => (await import('./pages/NewGroup')).NewGroup,
  '/instances': async () => (await import('./pages/Instances')).Instances,
  '/instances/:id': async () => (await import('./pages/Instance')).Instance,
  '/tickets': async () => (await import('./pages/Tickets')).Tickets,
  '/listeners': async () => (await import('./pages/Listeners')).Listeners,
  '/listeners/:address': async () => (await import('./pages/Listener')).Listener,
  '/pools': async () => (await import('./pages/Pools')).Pools,
  '/pools/:name': async () => (await import('./pages/Pool')).Pool,
  '/courses': async () => (await import('./pages/Courses')).Courses,
  '/notices': async () => (await import('./pages/Notices')).Notices,
  '/checks': async () => (await import('./pages/Checks')).Checks,
  '/services': async () => (await import('./pages/Services')).Services,
  '/costs': async () => (await import('./pages/Costs')).Costs,
  '/groups/:name': async () => (await import('./pages/Group')).Group,
  '/images': async () => (await import('./pages/Images')).Images,
  '/images/:name/:version': async () => (await import('./pages/Image')).Image,
  '/templates': async () => (await import('./pages/Templates')).Templates,
  '/templates/new': async () => (await import('./pages/TemplateForm')).TemplateForm,
  '/templates/:name': async () => (await import('./pages/Template')).Template,
  '/templates/:name/revise': async () => (await import('./pages/TemplateForm')).TemplateForm,
}

/** Begins to bring the page of an address, before what is around it is there. */
export function bring(pathname: string) {
  const parts = pathname.split('/')
  const route = Object.keys(routes)
    .sort((a, b) => Number(a.includes(':')) - Number(b.includes(':')))
    .find((r) => {
      const wanted = r.split('/')
      return wanted.length === parts.length && wanted.every((w, k) => w.startsWith(':') || w === parts[k])
    })
  if (route) void routes[route]?.()
}
