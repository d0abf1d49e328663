import type { NodeTransform } from '@vue/compiler-core'

export function speaking(found?: (text: string) => void): NodeTransform
