import { shallowRef } from 'vue'
import type { RouteLocationNormalized } from 'vue-router'

/** Where a navigation that is still under way leads: what is chosen meanwhile is chosen there, and does not cancel it. */
export const heading = shallowRef<RouteLocationNormalized | null>(null)
