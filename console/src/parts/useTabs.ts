// Tabs of a page; the one that is shown stands in the address.
import { type InjectionKey, provide, type Ref } from 'vue'
import { useAddress } from './useAddress'

export interface Tab {
  key: string
  text: string
  count?: number // what waits there
  off?: boolean // not on this page
}
export interface Tabs {
  shown: Ref<string>
  show: (key: string) => void
}
export const tabs = Symbol('tabs') as InjectionKey<Tabs>

export function useTabs(first: string): Tabs {
  const shown = useAddress('tab', first)
  const own = { shown, show: (key: string) => void (shown.value = key) }
  provide(tabs, own)
  return own
}
