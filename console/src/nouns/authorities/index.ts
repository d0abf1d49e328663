import Icon from '~icons/bi/shield-lock'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const authorities = records<Schemas['AuthorityRow'], Schemas['AuthorityInput']>(
  '/authorities',
  'authority',
)

export const place: NounPlace = {
  path: '/authorities',
  text: 'Authorities',
  icon: Icon,
  group: 'settings',
  order: 2,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
