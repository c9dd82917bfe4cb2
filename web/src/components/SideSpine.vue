<script setup lang="ts">
import { ArrowLeftRight, CircleUserRound, Keyboard, Layers, Moon, Rows3, Server, Sun } from 'lucide-vue-next'
import { useMe } from '../composables/useMe'
import { dark, toggleTheme } from '../composables/useTheme'

const { me } = useMe()
defineEmits<{ keys: [] }>()
const places = [
  { to: '/programs', name: 'Programs', icon: Layers },
  { to: '/takes', name: 'Takes', icon: Rows3 },
  { to: '/compare', name: 'Compare', icon: ArrowLeftRight },
  { to: '/machines', name: 'Machines', icon: Server },
]
</script>

<template>
  <nav class="flex w-[68px] shrink-0 flex-col border-r border-rule bg-paper" aria-label="Places">
    <RouterLink to="/programs" class="flex h-[52px] items-center justify-center" aria-label="Entelon, to the programs">
      <svg viewBox="0 0 24 24" class="size-7" aria-hidden="true">
        <path d="M5 3.5v17M5 5h15M9 10h8M9 14.5h5M9 19h2" fill="none" stroke="currentColor" stroke-width="2.2" />
      </svg>
    </RouterLink>
    <RouterLink
      v-for="p in places"
      :key="p.to"
      :to="p.to"
      class="flex flex-col items-center gap-1 border-l-2 border-transparent py-2.5 text-[11px] text-ink-2 hover:bg-wash hover:text-ink"
      active-class="!border-ink !text-ink font-medium"
    >
      <component :is="p.icon" class="size-[18px]" :stroke-width="1.6" aria-hidden="true" />
      {{ p.name }}
    </RouterLink>
    <div class="flex-1" />
    <RouterLink to="/you" class="flex flex-col items-center gap-1 border-l-2 border-transparent py-2.5 text-[11px] text-ink-2 hover:bg-wash hover:text-ink" active-class="!border-ink !text-ink font-medium" :title="me ? `Signed in as ${me.name}` : ''">
      <CircleUserRound class="size-[18px]" :stroke-width="1.6" aria-hidden="true" />You
    </RouterLink>
    <button class="flex flex-col items-center gap-1 py-2.5 text-[11px] text-ink-2 hover:bg-wash hover:text-ink" @click="$emit('keys')">
      <Keyboard class="size-[18px]" :stroke-width="1.6" aria-hidden="true" />Keys
    </button>
    <button class="mb-1 flex flex-col items-center gap-1 py-2.5 text-[11px] text-ink-2 hover:bg-wash hover:text-ink" @click="toggleTheme">
      <component :is="dark ? Sun : Moon" class="size-[18px]" :stroke-width="1.6" aria-hidden="true" />{{ dark ? 'Light' : 'Dark' }}
    </button>
  </nav>
</template>
