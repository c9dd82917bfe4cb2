<script setup lang="ts">
import { computed } from 'vue'
import type { FunctionCard } from '../api/client'
import { percent, wayText } from '../lib/format'

const props = defineProps<{ card: FunctionCard }>()
const emit = defineEmits<{ focus: [name: string] }>()

const o = computed(() => props.card.origin)
const share = (v: number) => v / (props.card.total || 1)
const shown = 3
const restInto = computed(() => o.value.into.slice(shown).reduce((n, e) => n + e.value, 0))
const lines = computed(() => o.value.lines.filter((l) => l.line > 0).slice(0, 2))

// Ways with hardly any part in it are left out, but never all of them.
const sides = computed(() => [
  { name: 'Found by', ways: o.value.found },
  { name: 'Its caller by', ways: o.value.callers },
])
const some = (ways: { way: string; value: number }[]) => ways.filter((w, i) => i === 0 || share(w.value) >= 0.005)
</script>

<template>
  <section class="mt-3.5" aria-label="Where its frames come from" data-test="origin">
    <h3 class="label mb-1 flex border-b border-rule pb-0.5"><span class="flex-1">Frames</span><span>of its total</span></h3>
    <div v-if="o.into.length" class="mb-1">
      <p class="label">Inlined into</p>
      <button v-for="e in o.into.slice(0, shown)" :key="e.function?.id ?? 0" class="flex w-full gap-2 py-[1px] text-left hover:bg-wash" :title="e.function?.name" @click="e.function && emit('focus', e.function.name)">
        <span class="code min-w-0 flex-1 truncate">{{ e.function?.short }}</span><span>{{ percent(share(e.value)) }}</span>
      </button>
      <p v-if="o.into.length > shown" class="label">and {{ o.into.length - shown }} more, {{ percent(share(restInto)) }}</p>
    </div>
    <div v-if="lines.length" class="flex gap-2 py-[1px]">
      <span class="label w-[4.8rem] shrink-0">At line</span>
      <span class="min-w-0 flex-1"><span v-for="l in lines" :key="l.line" class="flex gap-2"><span class="flex-1">{{ l.line }}</span><span>{{ percent(share(l.value)) }}</span></span></span>
    </div>
    <template v-for="s in sides" :key="s.name">
      <div v-if="s.ways.length" class="flex gap-2 py-[1px]">
        <span class="label w-[4.8rem] shrink-0">{{ s.name }}</span>
        <span class="min-w-0 flex-1">
          <span v-for="w in some(s.ways)" :key="w.way" class="flex gap-2"><span class="min-w-0 flex-1 truncate" :title="wayText(w.way)">{{ wayText(w.way) }}</span><span>{{ percent(share(w.value)) }}</span></span>
        </span>
      </div>
    </template>
    <p v-if="o.cut_off" class="flex gap-2 py-[1px]"><span class="label w-[4.8rem] shrink-0">Cut off</span><span class="flex-1">outer end unknown</span><span>{{ percent(share(o.cut_off)) }}</span></p>
  </section>
</template>
