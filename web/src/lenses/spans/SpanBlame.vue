<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { X } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { api } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { count, duration } from '../../lib/format'
import BlameRows from '../lanes/BlameRows.vue'
import BlameFlame from './BlameFlame.vue'
import SpanContrast from './SpanContrast.vue'

/** What the slowest spans were slow for: their critical paths, added up. */
const props = defineProps<{ takeKey: string; scope?: string; name: string; permille: number; ns?: { from: number; to: number }; focus: string }>()
const emit = defineEmits<{ close: []; focus: [name: string]; lane: [thread: number] }>()
const asked = computed(() => ({ scope: props.scope, name: props.name, permille: props.permille, longer: props.ns?.from, shorter: props.ns?.to }))
const query = useQuery(computed(() => ({ queryKey: ['span-blame', props.takeKey, asked.value], queryFn: ({ signal }: { signal: AbortSignal }) => api.spanBlame(props.takeKey, asked.value, signal), staleTime: Infinity })))
const data = computed(() => query.data.value)
const shown = ref<'table' | 'flame' | 'others'>('table')
const ways = computed(() => [
  ['table', 'table'],
  ['flame', 'flame'],
  // All of them have no others.
  ...(props.permille < 1000 || props.ns ? [['others', 'against the others']] : []),
] as ['table' | 'flame' | 'others', string][])
</script>

<template>
  <div class="max-h-[50%] shrink-0 overflow-y-auto border-t border-rule-strong px-4 py-2" data-test="span-blame">
    <ErrorNote v-if="query.error.value" :error="query.error.value" />
    <WaitNote v-else-if="!data" what="Following what held them up" />
    <template v-else>
      <div class="flex items-baseline gap-3">
        <p class="shrink-0 font-medium">What {{ data.spans === 1 ? 'the slowest one was' : `${ns ? 'these' : 'the slowest'} ${count(data.spans)} were` }} slow for, {{ duration(data.total_ns) }}</p>
        <p class="label truncate">what they ran themselves and, where they waited, what whoever ended that did meanwhile</p>
        <span class="flex-1" />
        <span class="flex shrink-0" role="group" aria-label="Shown as"><button v-for="[f, words] in ways" :key="f" class="-ml-px border border-rule-strong px-2" :class="f === shown ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="f === shown" data-test="blame-as" @click="shown = f">{{ words }}</button></span>
        <button aria-label="Close" class="text-ink-2 hover:text-ink" @click="emit('close')"><X class="size-4" /></button>
      </div>
      <SpanContrast v-if="shown === 'others' && ways.length > 2" :take-key="takeKey" :scope="scope" :name="name" :permille="permille" :longer="ns?.from" :focus="focus" @focus="emit('focus', $event)" />
      <BlameFlame v-else-if="shown === 'flame'" :flame="data.flame" :focus="focus" @focus="emit('focus', $event)" />
      <BlameRows v-else :of="data" :whole="Math.max(1, data.total_ns)" :focus="focus" @go="(thread) => emit('lane', thread)" @focus="emit('focus', $event)" />
    </template>
  </div>
</template>
