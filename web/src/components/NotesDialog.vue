<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useQueryClient } from '@tanstack/vue-query'
import { Pencil, Trash2 } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { api, type Remark } from '../api/client'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { when } from '../lib/format'

/** What people wrote on this take, and on the function in focus in all takes of its program. */
const props = defineProps<{ open: boolean; takeKey: string; focus: string; notes: Remark[] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const { may } = useMe()
const text = ref('')
const field = ref<HTMLTextAreaElement | null>(null)
const on = ref('take')
const changing = ref(0)
watch(
  () => props.open,
  (open) => {
    if (!open) return
    if (changing.value) text.value = '' // what was begun and not kept is still there
    changing.value = 0
    on.value = props.focus ? 'function' : 'take'
  },
)
const short = computed(() => props.focus.split('/').at(-1))
const shown = computed(() => props.notes.filter((n) => !n.function || n.function === props.focus))
const others = computed(() => props.notes.length - shown.value.length)

async function act(what: () => Promise<unknown>, said: string) {
  try {
    await what()
    tell(said, { seconds: 3 })
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  await Promise.all([queries.invalidateQueries({ queryKey: ['notes', props.takeKey] }), queries.invalidateQueries({ queryKey: ['ledger'] })])
}
async function keep() {
  const written = async (what: Promise<unknown>) => {
    await what
    text.value = ''
    changing.value = 0
  }
  if (changing.value) await act(() => written(api.changeNote(changing.value, text.value)), 'The note was changed.')
  else await act(() => written(api.addNote(props.takeKey, on.value === 'function' ? props.focus : '', text.value)), 'The note was kept.')
}
function change(n: Remark) {
  changing.value = n.id
  text.value = n.text
}
function remove(n: Remark) {
  emit('close') // what can be undone is behind the dialog
  void act(() => api.removeNote(n.id), 'The note was removed.').then(() =>
    tell('The note was removed.', { seconds: 8, undo: () => void act(() => api.addNote(props.takeKey, n.function, n.text), 'The note is back.') }),
  )
}
</script>

<template>
  <Dialog :open="open" :initial-focus="field" class="relative z-30" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel class="flex max-h-full w-[640px] flex-col border border-rule-strong bg-sheet p-6">
        <DialogTitle class="mb-3 text-[17px] font-medium">Notes</DialogTitle>
        <div class="min-h-0 flex-1 overflow-y-auto">
          <article v-for="n in shown" :key="n.id" class="mb-3 border-l-[3px] border-rule-strong pl-3" data-test="note">
            <p class="label flex items-center gap-2"><span class="min-w-0 flex-1 truncate">{{ n.function ? `on ${n.short}, in all takes` : 'on this take' }}{{ n.settled ? ', settled' : '' }} · {{ n.who }}, {{ when(n.updated_at) }}</span>
              <template v-if="may('work')"><button class="word" data-test="settle" @click="act(() => api.settleNote(n.id, !n.settled), n.settled ? 'The note is open again.' : 'The note is settled.')">{{ n.settled ? 'Open again' : 'Settled' }}</button><button class="text-ink-3 hover:text-ink" aria-label="Change the note" @click="change(n)"><Pencil class="size-3.5" /></button><button class="text-ink-3 hover:text-ink" aria-label="Remove the note" @click="remove(n)"><Trash2 class="size-3.5" /></button></template>
            </p>
            <!-- The server made this of Markdown and lets no other HTML through. -->
            <div class="note" :class="n.settled && 'text-ink-3'" v-html="n.html" />
          </article>
          <p v-if="!shown.length" class="text-ink-2">No notes yet.</p>
          <p v-if="others" class="label">{{ others }} more on other functions of this program</p>
        </div>
        <template v-if="may('work')">
          <div v-if="!changing && focus" class="mt-3 flex gap-4">
            <label class="flex items-center gap-1.5"><input v-model="on" type="radio" value="function" class="accent-ink" />on <span class="code">{{ short }}</span>, in all takes</label>
            <label class="flex items-center gap-1.5"><input v-model="on" type="radio" value="take" class="accent-ink" />on this take</label>
          </div>
          <textarea ref="field" v-model="text" rows="4" class="field mt-2 block w-full" placeholder="What you found, in Markdown" aria-label="New note" @keydown="(e) => e.key !== 'Escape' && e.stopPropagation()" />
        </template>
        <div class="mt-3 flex justify-end gap-2">
          <button v-if="may('work')" class="action" :disabled="!text.trim()" @click="keep">{{ changing ? 'Change the note' : 'Keep the note' }}</button>
          <button class="action" @click="emit('close')">Close</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
