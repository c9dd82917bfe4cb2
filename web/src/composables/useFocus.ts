import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** The functions that were in focus, so that one can step back and forth. */
const useTrail = defineStore('focus trail', () => {
  const names = ref<string[]>([])
  const at = ref(-1)
  function add(name: string) {
    if (names.value[at.value] === name) return
    names.value = [...names.value.slice(0, at.value + 1), name].slice(-100)
    at.value = names.value.length - 1
  }
  function step(by: number): string | undefined {
    const to = at.value + by
    if (to < 0 || to >= names.value.length) return undefined
    at.value = to
    return names.value[to]
  }
  return { names, at, add, step }
})

/**
 * The function that is being followed. It is in the address as its full name,
 * and so it holds in every lens, every take and every comparison.
 */
export function useFocus() {
  const route = useRoute()
  const router = useRouter()
  const trail = useTrail()
  const focus = computed(() => (typeof route.query.focus === 'string' ? route.query.focus : ''))

  function show(name: string) {
    const query = { ...route.query }
    if (name) query.focus = name
    else delete query.focus
    void router.replace({ query })
  }

  function set(name: string) {
    if (name) trail.add(name)
    show(name)
  }

  function step(by: number) {
    const name = trail.step(by)
    if (name) show(name)
  }

  if (focus.value) trail.add(focus.value)
  return { focus, set, step }
}
