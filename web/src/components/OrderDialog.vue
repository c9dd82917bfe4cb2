<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api } from '../api/client'
import { useOrderDialog } from '../composables/useOrder'
import ChoiceMenu from './ChoiceMenu.vue'

const { asked, purpose, settle } = useOrderDialog()
const set = computed(() => asked.value?.settings)
const collectors = useQuery({ queryKey: ['collectors'], queryFn: api.collectors, staleTime: 0, enabled: computed(() => !!asked.value) })
const here = computed(() => (collectors.data.value?.collectors ?? []).filter((c) => c.here).map((c) => c.name))
const chosen = ref('')
const collector = computed({
  get: () => [chosen.value, asked.value?.machine.host ?? '', here.value[0] ?? ''].find((name) => here.value.includes(name)) ?? '',
  set: (name) => (chosen.value = name),
})
const rows = computed<[string, string][]>(() => {
  const s = set.value
  if (!s) return []
  if (s.pids?.length) return [['Processes', s.pids.join(', ')]]
  if (s.whole_machine) return [['Sampled', 'everything on the machine']]
  if (s.control_group) return [['Control group', s.control_group]]
  return [
    ['Command', s.command.map((w) => (/^[\w./:=@%+,-]+$/.test(w) ? w : JSON.stringify(w))).join(' ')],
    ['User', s.user || 'the first that the machine allows'],
    ['Folder', s.dir || 'the user’s home'],
  ]
})
function go() {
  if (!set.value || !collector.value) return
  settle({ settings: { ...set.value, env: [] }, collector: collector.value })
}
</script>

<template>
  <Dialog :open="!!asked" class="relative z-30" @close="settle(undefined)">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 grid place-items-center p-6">
      <DialogPanel class="w-[640px] border border-rule-strong bg-sheet p-6">
        <DialogTitle class="text-[15.5px] font-medium">{{ purpose }}?</DialogTitle>
        <p class="mt-2 text-ink-2">This take was sent to the server, so anyone who may send takes could have written what it says. Check what would run before you start it.</p>
        <dl class="mt-4 grid grid-cols-[110px_1fr] items-baseline gap-y-1.5">
          <template v-for="[name, text] in rows" :key="name">
            <dt class="text-ink-2">{{ name }}</dt>
            <dd class="code max-h-[160px] overflow-y-auto break-all" :data-test="'order-' + name.toLowerCase()">{{ text }}</dd>
          </template>
          <dt class="text-ink-2">On</dt>
          <dd><ChoiceMenu v-if="here.length > 1" v-model="collector" :choices="here.map((c) => ({ value: c, text: c }))" name="Collector" /><span v-else>{{ collector || 'no machine: no collector is connected' }}</span></dd>
        </dl>
        <p v-if="set?.env.length" class="mt-3 text-ink-2">Its environment ({{ set.env.join(', ') }}) is not included, since its values were not kept. Set them in New take.</p>
        <div class="mt-5 flex justify-end gap-2">
          <button class="action" @click="settle(undefined)">Cancel</button>
          <button class="action !bg-ink !px-4 !text-paper disabled:opacity-40" :disabled="!collector" data-test="order" @click="go">{{ purpose }}</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
