import Icon from '~icons/bi/file-earmark-lock'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const profiles = records<Schemas['ProfileRow'], Schemas['ProfileInput']>(
  '/profiles',
  'profile',
)

export const place: NounPlace = {
  path: '/profiles',
  text: 'Profiles',
  icon: Icon,
  group: 'inventory',
  order: 4,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
