import Icon from '~icons/bi/hdd-network'
import type { NounPlace } from '../../places'
import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const gateways = records<Schemas['GatewayRow'], Schemas['GatewayInput']>(
  '/gateways',
  'gateway',
)

export const place: NounPlace = {
  path: '/gateways',
  text: 'Gateways',
  icon: Icon,
  group: 'inventory',
  order: 1,
  page: () => import('./List.vue'),
  record: () => import('./Record.vue'),
}
