import createClient from 'openapi-fetch'
import { ref } from 'vue'

import type { components, paths } from '../contract.gen'

export type Schemas = components['schemas']
export type Input = Schemas['Input']
export type File = Schemas['File']
export type Refresh = Schemas['Refresh']
export type Receipt = Schemas['Receipt']
export type ReceiptFile = Schemas['ReceiptFile']
export type Finding = Schemas['Finding']
export type Explanation = Schemas['Explanation']

export const api = createClient<paths>({ baseUrl: '/' })

/** Whether the service refused this browser for want of a sign-in. */
export const signedOut = ref(false)

/** What went wrong, in the words of the service. */
export type Trouble = { detail: string; next?: string }

api.use({
  onResponse({ response }) {
    signedOut.value = response.status === 401
  },
})

/**
 * Takes the data of an answer; what went wrong is thrown as a Trouble.
 */
export async function take<T>(asked: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let answer
  try {
    answer = await asked
  } catch {
    throw { detail: 'The service cannot be reached', next: 'see whether it runs; this page goes on by itself once it does' } satisfies Trouble
  }
  if (answer.data === undefined) throw (answer.error ?? { detail: 'The service gave no answer' }) as Trouble
  return answer.data
}
