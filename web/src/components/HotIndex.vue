<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { Pin } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import type { Hot } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useMeasure } from '../composables/useMeasure'
import { useKeys } from '../composables/useKeys'
import { dark } from '../composables/useTheme'
import { usePercent } from '../composables/usePercent'
import { count } from '../lib/format'
import { inkOf } from '../lib/palette'
import SizeBars from './SizeBars.vue'

const props = defineProps<{ hot: Hot; focus: string; pins: string[] }>()
const { figure, exact } = useMeasure()
const { of } = usePercent()
const emit = defineEmits<{ focus: [name: string]; pin: [name: string] }>()

const { text } = useAddress()
const by = text('by', 'self')
const filter = text('filter')

type Row = { at: number; pinned: boolean }

// Lists can have tens of thousands of functions, so what is reactive is read
// once and not for each of them.
const sorted = computed(() => {
  const order = props.hot.functions.map((_, i) => i)
  const key = props.hot.sum_total
  return by.value === 'total' ? order.sort((a, b) => key[b] - key[a] || a - b) : order
})
const rows = computed<Row[]>(() => {
  const needle = filter.value.toLowerCase()
  const pins = new Set(props.pins)
  const functions = props.hot.functions
  const pinned: Row[] = []
  const rest: Row[] = []
  for (const at of sorted.value) {
    const name = functions[at].name
    if (pins.size && pins.has(name)) pinned.push({ at, pinned: true })
    else if (!needle || name.toLowerCase().includes(needle)) rest.push({ at, pinned: false })
  }
  return [...pinned, ...rest]
})

const scroller = ref<HTMLElement>()
const height = 40
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 3 })))
const swatch = (i: number) => {
  const f = props.hot.functions[i]
  const ink = inkOf(f.kind, f.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}

// The focus stands above the list, so that nobody has to look for it; the list
// itself stays where it is.
const followed = computed(() => props.hot.functions.findIndex((f) => f.name === props.focus))

const field = ref<HTMLInputElement>()
useKeys({ f: () => field.value?.select() })
</script>

<template>
  <section class="relative flex h-full min-h-0 flex-col" aria-label="Hot functions">
    <div class="flex h-[36px] shrink-0 items-center gap-2 border-b border-rule px-3">
      <input ref="field" v-model="filter" class="field min-w-0 flex-1 !py-0.5" placeholder="Find a function" aria-label="Find a function" @keydown.escape="filter = ''" />
      <div class="flex shrink-0" role="group" aria-label="Order by">
        <button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button>
      </div>
    </div>
    <div v-if="focus" class="shrink-0 border-b border-l-[3px] border-b-rule-strong border-l-focus bg-focus-wash px-2.5 pt-[5px] pb-[7px]" data-test="followed" aria-label="The function in focus">
      <template v-if="followed >= 0">
        <span class="flex items-center gap-1.5">
          <span class="size-2.5 shrink-0 border" :style="swatch(followed)" aria-hidden="true" />
          <span class="code end-kept min-w-0 flex-1" :title="focus"><bdi dir="ltr">{{ hot.functions[followed].short }}</bdi></span>
          <span class="min-w-[46px] shrink-0 text-right">{{ of((by === 'total' ? hot.sum_total : hot.self)[followed], { scope: hot.total }) }}</span>
        </span>
        <SizeBars class="mt-1 mr-5" :self="hot.self[followed] / (hot.total || 1)" :total="hot.sum_total[followed] / (hot.total || 1)" />
      </template>
      <span v-else class="code block truncate" :title="focus">{{ focus }}: none here</span>
    </div>
    <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto" role="list" aria-label="Functions by cost">
      <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
        <div v-for="v in virtual.getVirtualItems()" :key="hot.functions[rows[v.index].at].id" role="listitem" class="group absolute inset-x-0" :style="{ top: v.start + 'px', height: height + 'px' }">
        <button
          :aria-pressed="hot.functions[rows[v.index].at].name === focus"
          data-test="hot-row"
          class="block h-full w-full border-b border-l-[3px] border-transparent border-b-rule px-2.5 pt-[5px] text-left hover:bg-wash"
          :class="[hot.functions[rows[v.index].at].name === focus && '!border-l-focus bg-focus-wash', rows[v.index].pinned && 'bg-wash']"
          :title="`${hot.functions[rows[v.index].at].name}\nself ${figure(hot.self[rows[v.index].at])}, total ${figure(hot.sum_total[rows[v.index].at])}, ${exact ? `${hot.calls.length ? count(hot.calls[rows[v.index].at]) + ' calls' : 'exact'}` : `${count(hot.total_samples[rows[v.index].at])} samples`}`"
          @click="emit('focus', hot.functions[rows[v.index].at].name)"
        >
          <span class="flex items-center gap-1.5">
            <span class="size-2.5 shrink-0 border" :style="swatch(rows[v.index].at)" aria-hidden="true" />
            <span class="code end-kept min-w-0 flex-1"><bdi dir="ltr">{{ hot.functions[rows[v.index].at].short }}</bdi></span>
            <span class="min-w-[46px] shrink-0 text-right">{{ of((by === 'total' ? hot.sum_total : hot.self)[rows[v.index].at], { scope: hot.total }) }}</span>
          </span>
          <SizeBars class="mt-1 mr-5" :self="hot.self[rows[v.index].at] / (hot.total || 1)" :total="hot.sum_total[rows[v.index].at] / (hot.total || 1)" />
        </button>
        <button
          class="absolute top-[23px] right-[10px] text-ink-3 hover:text-ink focus-visible:opacity-100"
          :class="rows[v.index].pinned ? '' : 'opacity-0 group-hover:opacity-100'"
          :aria-label="`${rows[v.index].pinned ? 'Unpin' : 'Pin'}: ${hot.functions[rows[v.index].at].short}`"
          @click="$emit('pin', hot.functions[rows[v.index].at].name)"
        ><Pin class="size-3.5" :fill="rows[v.index].pinned ? 'currentColor' : 'none'" /></button>
        </div>
      </div>
      <p v-if="!rows.length" class="p-4 text-ink-2">No function in scope matches. <button v-if="filter" class="word" @click="filter = ''">Show all</button></p>
    </div>
    <p class="label shrink-0 border-t border-rule px-3 py-1">{{ filter ? `${count(rows.length)} of ` : '' }}{{ count(hot.functions.length) }} functions<template v-if="hot.more">, {{ count(hot.more) }} cheaper ones left out ({{ of(hot.more_self, { scope: hot.total }) }})</template>; bars: self over total</p>
  </section>
</template>
