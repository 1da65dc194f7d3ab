/** Reading from the server: one client of the query library for the page, and reads that follow a question. */
import { QueryClient, useQuery, type UseQueryOptions } from '@tanstack/vue-query'
import { computed, shallowRef, watch, type ComputedRef } from 'vue'
import { ApiError } from './client'

const AGAIN_MS = 2000
const KEPT_MS = 60_000

/** Whether to ask again later: the server, or its database, may be starting again. */
export const isAway = (error: unknown) =>
  !(error instanceof ApiError) || ['no-connection', 'no-database'].includes(error.code)

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      networkMode: 'always', // the server is on this very machine
      staleTime: Infinity, // questions name the revision, or the sound, that they are about
      gcTime: KEPT_MS,
      refetchOnWindowFocus: false,
      retry: (_, error) => isAway(error),
      retryDelay: AGAIN_MS,
    },
  },
})

export interface Read<A> {
  /** The newest answer about what is looked at; of something else, none. */
  readonly answer: ComputedRef<A | null>
  readonly problem: ComputedRef<string>
  readonly waiting: ComputedRef<boolean>
}

/**
 * Ask whenever the question becomes another, one at a time: of questions that come while one is asked, only the newest.
 * `subject` says what an answer is about; until the next one comes, the last one about the same stays.
 */
export function useRead<Q, A>(
  name: string,
  question: () => Q | null,
  ask: (question: Q, signal: AbortSignal) => Promise<A>,
  subject: () => unknown,
): Read<A> {
  const now = () => ({ question: question(), about: JSON.stringify(subject() ?? null) })
  const asked = shallowRef(now())
  const query = useQuery(
    computed(() => {
      const { question: of, about } = asked.value
      return {
        queryKey: [name, about, of],
        queryFn: ({ signal }: { signal: AbortSignal }) => ask(of as Q, signal),
        enabled: of !== null,
        shallow: true,
        placeholderData: (last: A | undefined, lastQuery?: { queryKey: readonly unknown[] }) =>
          lastQuery?.queryKey[1] === about ? last : undefined,
      } as unknown as UseQueryOptions<A>
    }),
    queries,
  )
  const newest = computed(now)
  const sameAs = (one: ReturnType<typeof now>) => JSON.stringify(one) === JSON.stringify(asked.value)
  watch(
    [newest, query.isFetching],
    ([next, busy]) => {
      if ((!busy || query.isError.value) && !sameAs(next)) asked.value = next
    },
    { flush: 'sync' },
  )
  const isOfNow = computed(() => asked.value.about === newest.value.about)
  return {
    answer: computed(() => (isOfNow.value ? ((query.data.value as A | undefined) ?? null) : null)),
    problem: computed(() => (isOfNow.value && query.error.value ? query.error.value.message : '')),
    waiting: computed(() => query.isFetching.value),
  }
}
