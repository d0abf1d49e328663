import Icon from '~icons/bi/shuffle'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const switchovers = records<Schemas['SwitchoverRow'], Schemas['SwitchoverInput']>(
  '/switchovers',
  'switchover',
)

export const place: NounPlace = {
  path: '/switchovers',
  text: 'Switchovers',
  icon: Icon,
  group: 'delivery',
  order: 2,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
