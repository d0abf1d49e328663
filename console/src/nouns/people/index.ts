import Icon from '~icons/bi/people'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const people = records<Schemas['PersonRow'], Schemas['PersonInput']>('/people', 'person')

export const place: NounPlace = {
  path: '/people',
  text: 'People',
  icon: Icon,
  group: 'inventory',
  order: 2,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
