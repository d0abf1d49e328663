import { records } from '../../api/records'
import type { Schemas } from '../../api/client'

export const accounts = records<Schemas['AccountRow'], Schemas['AccountInput']>(
  '/accounts',
  'account',
)
