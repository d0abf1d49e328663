import Icon from '~icons/bi/diagram-3'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const patterns = records<Schemas['PatternRow'], Schemas['PatternInput']>(
  '/patterns',
  'pattern',
)

export const place: NounPlace = {
  path: '/patterns',
  text: 'Patterns',
  icon: Icon,
  group: 'inventory',
  order: 5,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
