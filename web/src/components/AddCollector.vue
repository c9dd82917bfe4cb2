<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref, watch } from 'vue'
import { api, ApiError } from '../api/client'
import { tell } from '../composables/useNotices'

const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const name = ref('')
const command = ref('')
const hours = ref(0)
const failed = ref<unknown>()
watch(
  () => props.open,
  () => {
    name.value = command.value = ''
    failed.value = undefined
  },
)
async function make() {
  failed.value = undefined
  try {
    const link = await api.addCollector(name.value.trim())
    command.value = `entelon collector enrol ${location.origin}${link.path}`
    hours.value = link.hours
  } catch (e) {
    failed.value = e
  }
}
async function copy() {
  try {
    await navigator.clipboard.writeText(command.value)
    tell('The command was copied.')
  } catch {
    tell('The browser did not allow copying; select the command instead.', { bad: true, seconds: 8 })
  }
}
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 grid place-items-center p-6">
      <DialogPanel class="w-[640px] border border-rule-strong bg-sheet p-6">
        <DialogTitle class="text-[15.5px] font-medium">Add a machine</DialogTitle>
        <form v-if="!command" class="mt-3" @submit.prevent="make">
          <label class="block"><span class="label">Name of the machine, as shown here</span><input v-model="name" class="field mt-0.5 w-full" placeholder="press-2" required maxlength="60" data-test="collector-name" /></label>
          <p v-if="failed" role="alert" class="mt-2 text-alarm">{{ (failed as Error).message }}<span v-if="failed instanceof ApiError && failed.remedy" class="block text-ink-2">{{ failed.remedy }}</span></p>
          <div class="mt-5 flex justify-end gap-2"><button type="button" class="action" @click="emit('close')">Cancel</button><button class="action !bg-ink !px-4 !text-paper" data-test="make-link">Make the link</button></div>
        </form>
        <template v-else>
          <p class="mt-2 text-ink-2">Run this on {{ name }} within {{ hours }} hours. The link works once; the machine makes its own key and keeps it.</p>
          <pre class="code mt-3 border border-rule bg-wash p-3 break-all whitespace-pre-wrap select-all" data-test="enrol">{{ command }}</pre>
          <p class="mt-3 text-ink-2">Then start the collector, as root or as a service: <span class="code">entelon collector</span>. The machine’s owner decides what it may do there, in <span class="code">/etc/entelon/collector.yaml</span>; without that file, commands run as nobody.</p>
          <div class="mt-5 flex justify-end gap-2"><button class="action" @click="copy">Copy</button><button class="action !bg-ink !px-4 !text-paper" @click="emit('close')">Done</button></div>
        </template>
      </DialogPanel>
    </div>
  </Dialog>
</template>
