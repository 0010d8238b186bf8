import { ref } from 'vue'

import { api, take } from './api'

/** How many notices nobody has seen. */
export const unseen = ref(0)

/** Counts them anew. */
export async function countUnseen() {
  try {
    unseen.value = (await take(api.GET('/api/v1/notices', { params: { query: { limit: 1, unseen: true } } }))).unseen
  } catch {
    // The page itself tells what is wrong.
  }
}
