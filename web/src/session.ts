import { ref } from 'vue'
import type { components } from './api/schema'

/** Who is signed in; nothing before that is known. */
export const signedIn = ref<components['schemas']['Session']>()
