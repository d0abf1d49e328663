import Icon from '~icons/bi/laptop'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const devices = records<Schemas['DeviceRow'], Schemas['DeviceInput']>('/devices', 'device')

export const place: NounPlace = {
  path: '/devices',
  text: 'Devices',
  icon: Icon,
  group: 'inventory',
  order: 3,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
