<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, ref, watch } from 'vue'
import { api } from '../api/client'
import { useMe } from '../composables/useMe'
import { useWorkloads } from '../composables/useWorkloads'
import { count, when } from '../lib/format'
import ChoiceMenu from './ChoiceMenu.vue'
import ErrorNote from './ErrorNote.vue'

/** What a program was made to do: names, and which are one. */
const props = defineProps<{ open: boolean; program: string }>()
const emit = defineEmits<{ close: [] }>()
const { may } = useMe()
const program = computed(() => props.program)
const query = useQuery({ queryKey: ['workloads', program], queryFn: () => api.workloads(program.value), enabled: computed(() => props.open), staleTime: 0 })
const list = computed(() => query.data.value?.workloads ?? [])
const { change, undo } = useWorkloads(program)

const naming = ref(0)
const name = ref('')
const fields = ref<HTMLInputElement[]>([]) // the one that is open
const chosen = ref<number[]>([])
const into = ref('')
watch(() => props.open, () => ((naming.value = 0), (chosen.value = []), (into.value = '')))
const targets = computed(() => list.value.filter((w) => !chosen.value.includes(w.id)).map((w) => ({ value: String(w.id), text: w.name, note: `${count(w.takes)}` })))
const target = computed({ get: () => targets.value.find((t) => t.value === into.value)?.value ?? targets.value[0]?.value ?? '', set: (v) => (into.value = v) })

function begin(id: number, text: string) {
  naming.value = id
  name.value = text
  void nextTick(() => fields.value[0]?.select())
}
async function keepName() {
  const id = naming.value
  if (await change(() => api.nameWorkload(props.program, id, name.value), 'The workload was renamed.')) naming.value = 0
}
async function merge() {
  const from = chosen.value
  if (await change(() => api.mergeWorkloads(props.program, from, Number(target.value)), 'The workloads were merged.')) chosen.value = []
}
const toggle = (id: number) => (chosen.value = chosen.value.includes(id) ? chosen.value.filter((x) => x !== id) : [...chosen.value, id])
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 grid place-items-center p-6">
      <DialogPanel class="flex max-h-full w-[760px] flex-col border border-rule-strong bg-sheet p-6">
        <DialogTitle class="text-[17px] font-medium">Workloads of {{ program }}</DialogTitle>
        <p class="mt-1 text-ink-2">What the program was made to do in its takes. Only takes of one workload are measured against each other. Merge workloads that you consider the same; later takes will follow.</p>
        <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
        <ul class="mt-4 min-h-0 flex-1 overflow-y-auto border-t border-rule" aria-label="Workloads">
          <li v-for="w in list" :key="w.id" class="flex items-center gap-3 border-b border-rule py-1.5" data-test="workload-row">
            <input v-if="may('work')" type="checkbox" class="accent-ink" :checked="chosen.includes(w.id)" :aria-label="`Select ${w.name} to merge`" @change="toggle(w.id)" />
            <form v-if="naming === w.id" class="flex min-w-0 flex-1 gap-2" @submit.prevent="keepName">
              <input ref="fields" v-model="name" class="field min-w-0 flex-1" maxlength="200" aria-label="Name of the workload" @keydown.stop @keydown.escape.stop="naming = 0" />
              <button class="action" :disabled="!name.trim()">Keep</button>
            </form>
            <span v-else class="min-w-0 flex-1">
              <span class="block break-words" :class="!w.named && 'code'">{{ w.name }}</span>
              <span v-if="w.named && w.words !== w.name" class="label code block break-words">{{ w.words }}</span>
              <span v-if="w.merged.length" class="label block break-words">with {{ w.merged.join('; ') }}</span>
            </span>
            <span class="label w-[190px] text-right">{{ count(w.takes) }} {{ w.takes === 1 ? 'take' : 'takes' }} of {{ count(w.builds) }} {{ w.builds === 1 ? 'build' : 'builds' }}<br />last {{ when(w.last_at) }}</span>
            <button v-if="may('work') && naming !== w.id" class="word label" :aria-label="`Rename ${w.name}`" @click="begin(w.id, w.name)">rename</button>
          </li>
        </ul>
        <p v-if="query.data.value && query.data.value.count > list.length" class="label mt-2">{{ count(query.data.value.count - list.length) }} more, with fewer takes, are not listed.</p>
        <div class="mt-4 flex items-center gap-2">
          <template v-if="chosen.length && targets.length">
            <span>Merge {{ count(chosen.length) }} with</span><ChoiceMenu v-model="target" :choices="targets" name="Merge with" /><button class="action" @click="merge">Merge</button>
          </template>
          <span v-else-if="query.data.value?.changes.length" class="label min-w-0 flex-1 truncate" :title="query.data.value.changes[0].what">{{ query.data.value.changes[0].who }}: {{ query.data.value.changes[0].what }} <button v-if="may('work')" class="word" @click="undo">undo</button></span>
          <div class="flex-1" />
          <button class="action" @click="emit('close')">Close</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
