import { useLocalStorage, usePreferredDark } from '@vueuse/core'
import { computed, watchEffect } from 'vue'

const chosen = useLocalStorage<'' | 'light' | 'dark'>('entelon-theme', '')
const preferred = usePreferredDark()

export const dark = computed(() => (chosen.value ? chosen.value === 'dark' : preferred.value))

watchEffect(() => document.documentElement.classList.toggle('dark', dark.value))

export function toggleTheme() {
  chosen.value = dark.value ? 'light' : 'dark'
}
