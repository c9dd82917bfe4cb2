<script setup lang="ts">
import { ChevronDown, ChevronRight, TriangleAlert } from 'lucide-vue-next'
import type { Hot, TakeDetail } from '../api/client'

defineProps<{ parts: Hot['reading']; warnings: TakeDetail['warnings']; focus: string }>()
defineEmits<{ focus: [name: string] }>()
const folded = defineModel<boolean>('folded', { required: true })
</script>

<template>
  <section class="flex gap-2 border-b border-rule bg-paper px-4 py-2" aria-label="Reading">
    <button class="mt-0.5 h-4 text-ink-3 hover:text-ink" :aria-expanded="!folded" aria-label="Fold the reading" @click="folded = !folded">
      <component :is="folded ? ChevronRight : ChevronDown" class="size-4" />
    </button>
    <div class="min-w-0 flex-1">
      <p class="text-[14.5px] leading-snug" :class="folded ? 'truncate' : !parts.length && 'min-h-[40px]'" data-test="reading">
        <template v-for="(p, i) in parts" :key="i">
          <button v-if="p.function" class="word font-medium" :class="p.function.name === focus && '!border-b-2 !border-focus'" :title="p.function.name" @click="$emit('focus', p.function.name)">{{ p.text }}</button>
          <template v-else>{{ p.text }}</template>
        </template>
      </p>
      <template v-if="!folded">
        <p v-for="w in warnings" :key="w.code" class="mt-1 flex items-start gap-1.5">
          <TriangleAlert class="mt-[2px] size-3.5 shrink-0 text-alarm" aria-hidden="true" />
          <span>{{ w.text }} <span class="text-ink-2">{{ w.remedy }}</span></span>
        </p>
      </template>
      <p v-else-if="warnings.length" class="label">{{ warnings.length }} {{ warnings.length === 1 ? 'warning' : 'warnings' }} folded</p>
    </div>
  </section>
</template>
