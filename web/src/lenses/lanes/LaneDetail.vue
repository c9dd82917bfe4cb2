<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'
import { api, type LaneAt } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import { dark } from '../../composables/useTheme'
import { count, duration, seconds } from '../../lib/format'
import { inkOf } from '../../lib/palette'

/** What a thread did at the chosen time: for how long, on which stack, and who ended it. */
const props = defineProps<{ takeKey: string; thread: number; at: number; tick: number; focus: string }>()
const emit = defineEmits<{ told: [what: LaneAt]; go: [thread: number, at: number]; focus: [name: string]; path: [] }>()
const query = useQuery(computed(() => ({ queryKey: ['lane-at', props.takeKey, props.thread, props.at], queryFn: () => api.laneAt(props.takeKey, { thread: props.thread, at: props.at }), staleTime: Infinity })))
const found = computed(() => query.data.value)
watch(found, (f) => f && emit('told', f), { immediate: true })
const name = (i: number) => found.value!.functions[i]
/** The program's part of a stack, and how many frames of the kernel are within; of an interrupt all are. */
function part(title: string, stack: number[]) {
  const frames = stack.filter((i) => name(i).kind !== 'mark')
  const program = frames.filter((i) => name(i).kind !== 'kernel')
  return program.length ? { title, frames: program, kernel: frames.length - program.length } : { title, frames, kernel: 0 }
}
const swatch = (i: number) => {
  const ink = inkOf(name(i).kind, name(i).area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
const who = computed(() => found.value?.by)
const stacks = computed(() => [part('Where it waited', found.value?.stack ?? []), part(found.value?.interrupt ? 'The interrupt' : 'Where that was', found.value?.by_stack ?? [])].filter((s) => s.frames.length))
</script>

<template>
  <div class="max-h-[40%] shrink-0 overflow-y-auto border-t border-rule-strong px-4 py-2" data-test="lane-detail">
    <ErrorNote v-if="query.error.value" :error="query.error.value" />
    <template v-else-if="found">
      <div class="flex flex-wrap items-baseline gap-x-3">
        <p class="font-medium">{{ found.words }}, {{ duration(found.to_ns - found.from_ns) }}</p>
        <p class="label">from {{ seconds(found.from_ns, 6) }} to {{ seconds(found.to_ns, 6) }}</p>
        <p v-if="found.state === 'running' && tick" class="label" data-test="lane-samples">at least {{ count(found.samples) }} samples; calls not counted</p>
        <span class="flex-1" />
        <button class="text-ink-2 underline hover:text-ink" @click="emit('path')">what held it up</button>
        <button v-if="found.previous_ns >= 0" class="text-ink-2 underline hover:text-ink" @click="emit('go', thread, found.previous_ns)">before</button>
        <button v-if="found.next_ns >= 0" class="text-ink-2 underline hover:text-ink" @click="emit('go', thread, found.next_ns)">after</button>
      </div>
      <p v-if="who" data-test="lane-by">Ended by <button class="underline hover:text-ink" @click="emit('go', who.id, Math.max(who.from_ns, found.to_ns - 1))">{{ who.words }}</button><template v-if="who.pid !== 0"> of {{ who.process }} {{ who.pid }}</template></p>
      <p v-else-if="found.interrupt" data-test="lane-by">Ended by an interrupt: a timer, a disk or the network</p>
      <p v-else-if="found.interval >= 0 && found.state !== 'ready'" class="text-ink-2">Who ended it is not known.</p>
      <div class="mt-1 grid grid-cols-2 gap-6">
        <div v-for="s in stacks" :key="s.title" class="min-w-0">
          <p class="label">{{ s.title }}<template v-if="s.kernel">, {{ count(s.kernel) }} {{ s.kernel === 1 ? 'frame' : 'frames' }} in the kernel</template></p>
          <ol>
            <li v-for="(f, i) in s.frames" :key="i" class="flex items-center gap-1.5" :style="{ height: '20px' }">
              <span class="size-2.5 shrink-0 border" :style="swatch(f)" aria-hidden="true" />
              <button class="code truncate border-l-2 pl-1 text-left hover:underline" :class="name(f).name === focus ? 'border-focus' : 'border-transparent'" :title="name(f).name" @click="emit('focus', name(f).name)">{{ name(f).short }}</button>
            </li>
          </ol>
        </div>
      </div>
    </template>
  </div>
</template>
