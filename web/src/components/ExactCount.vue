<script setup lang="ts">
import { Hash } from 'lucide-vue-next'
import { ref, watch } from 'vue'
import { api, ApiError, type Counts } from '../api/client'
import { useMe } from '../composables/useMe'
import { orderFor } from '../composables/useOrder'
import { count, percent } from '../lib/format'

// Samples cannot tell a slow function from one that is called too often; exact
// counts can.
const props = defineProps<{ takeKey: string; name: string }>()
const emit = defineEmits<{ focus: [name: string] }>()
const { may } = useMe()
const seconds = 3
const counted = ref<Counts>()
const failed = ref<unknown>()
const busy = ref(false)
watch(
  () => [props.takeKey, props.name],
  () => (counted.value = failed.value = undefined),
)
async function start() {
  const [key, name] = [props.takeKey, props.name]
  busy.value = true
  counted.value = failed.value = undefined
  try {
    const order = await orderFor(key, 'Run it and count')
    if (!order) return
    const c = await api.count({ function: name, take: key, seconds, calls: 0, ...order })
    if (key === props.takeKey && name === props.name) counted.value = c
  } catch (e) {
    if (key === props.takeKey && name === props.name) failed.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section v-if="may('collect')" class="mt-3.5" aria-label="Exact calls">
    <h3 class="label mb-1 border-b border-rule pb-0.5">Calls, counted exactly</h3>
    <button class="action !px-2 !py-0.5" :disabled="busy" data-test="count" @click="start"><Hash class="size-3.5" aria-hidden="true" />{{ busy ? 'Counting' : `Count for ${seconds} s` }}</button>
    <p v-if="failed" role="alert" class="mt-1">{{ (failed as Error).message }}<span v-if="failed instanceof ApiError && failed.remedy" class="block text-ink-2">{{ failed.remedy }}</span></p>
    <div v-if="counted" class="mt-1" data-test="counted">
      <template v-for="f in counted.functions" :key="f.name">
        <p><b class="font-medium">{{ count(f.calls) }}</b> calls in {{ (counted.duration_ns / 1e9).toFixed(1) }} s<template v-if="f.calls && counted.cpu_ns">, {{ count(f.calls / (counted.cpu_ns / 1e9)) }} a second of CPU</template></p>
        <button v-for="c in f.callers.slice(0, 6)" :key="c.name" class="flex w-full gap-2 py-[2px] text-left hover:bg-wash" :title="c.name" @click="emit('focus', c.name)">
          <span class="code min-w-0 flex-1 truncate">{{ c.name.split('/').at(-1) }}</span><span>{{ count(c.calls) }}</span><span class="label w-[42px] text-right">{{ percent(c.calls / (f.calls || 1), 0) }}</span>
        </button>
        <p v-if="f.callers.length > 6" class="label">and {{ f.callers.length - 6 }} more callers</p>
      </template>
      <p class="label mt-1">Counting made it {{ percent(counted.slowdown) }} slower.</p>
      <p v-for="w in counted.warnings" :key="w.code" class="label mt-1">{{ w.text }} {{ w.remedy }}</p>
    </div>
  </section>
</template>
