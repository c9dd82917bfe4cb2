import { useLocalStorage } from '@vueuse/core'
import { computed, type Ref } from 'vue'

const pins = useLocalStorage<Record<string, string[]>>('entelon-pins', {})

/** The functions that stay on top of a program's lists, in this browser. */
export function usePins(program: Ref<string>) {
  const mine = computed(() => pins.value[program.value] ?? [])
  function toggle(name: string) {
    if (!name) return
    const list = mine.value.includes(name) ? mine.value.filter((n) => n !== name) : [...mine.value, name]
    pins.value = { ...pins.value, [program.value]: list }
  }
  return { pins: mine, toggle }
}
