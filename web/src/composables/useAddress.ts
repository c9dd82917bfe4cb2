import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

// Everything that a screen shows is in its address. Changes that come in the
// same moment go into the address together.

let pending: Record<string, string | undefined> | null = null

export function useAddress() {
  const route = useRoute()
  const router = useRouter()

  function change(words: Record<string, string | undefined>, keepStep = false) {
    if (pending) {
      Object.assign(pending, words)
      return
    }
    pending = { ...words }
    queueMicrotask(() => {
      const query = { ...route.query } as Record<string, string | undefined>
      for (const [k, v] of Object.entries(pending!)) {
        if (v === undefined || v === '') delete query[k]
        else query[k] = v
      }
      pending = null
      void (keepStep ? router.push({ query }) : router.replace({ query }))
    })
  }

  function text(name: string, otherwise = ''): WritableComputedRef<string> {
    return computed({
      get: () => (typeof route.query[name] === 'string' ? (route.query[name] as string) : otherwise),
      set: (v) => change({ [name]: v === otherwise ? undefined : v }),
    })
  }

  function number(name: string): WritableComputedRef<number> {
    return computed({
      get: () => Number(route.query[name] ?? 0) || 0,
      set: (v) => change({ [name]: v ? String(v) : undefined }),
    })
  }

  return { change, text, number }
}
