<script setup lang="ts">
import { computed } from 'vue'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import { words } from '../lib/commandWords'
import type { Command } from '../composables/useCommands'

const command = defineModel<Command>({ required: true })
const props = defineProps<{ known: Record<string, Command>; alone?: boolean }>()
const emit = defineEmits<{ program: [name: string] }>()
const parsed = computed(() => words(command.value.line))
const choices = computed(() => Object.entries(props.known).map(([name, c]) => ({ value: name, text: name, note: c.line })))
const recalled = computed({
  get: () => 'choose',
  set: (name) => {
    if (props.known[name]) command.value = { ...props.known[name] }
    emit('program', name)
  },
})
</script>

<template>
  <div class="max-w-[720px] overflow-y-auto px-6 py-5">
    <div v-if="choices.length" class="mb-4 flex items-center gap-2"><span class="label">Recent:</span><ChoiceMenu v-model="recalled" :choices="choices" name="A command from before" /></div>
    <label class="block"><span class="label">Command. Separate words by spaces; quote what belongs together</span><input v-model="command.line" class="field code mt-0.5 w-full !py-1.5" placeholder="/srv/bin/engraved --scores 200" spellcheck="false" /></label>
    <p v-if="parsed.length" class="label mt-1">{{ parsed.length }} words: <span v-for="(w, i) in parsed" :key="i" class="code mr-1 border border-rule bg-wash px-1">{{ w }}</span></p>
    <div class="mt-4 grid grid-cols-2 gap-4">
      <label class="block"><span class="label">Directory</span><input v-model="command.dir" class="field code mt-0.5 w-full" spellcheck="false" /></label>
      <label class="block"><span class="label">User (default: the first that the machine allows)</span><input v-model="command.user" class="field mt-0.5 w-full" spellcheck="false" /></label>
    </div>
    <label class="mt-4 block"><span class="label">Environment, as NAME=VALUE words</span><input v-model="command.env" class="field code mt-0.5 w-full" placeholder="WORKERS=4" spellcheck="false" /></label>
    <label v-if="!alone" class="mt-4 block"><span class="label">Baseline to interleave with, if any: another build, or another command</span><input v-model="command.against" class="field code mt-0.5 w-full" placeholder="/srv/bin/engraved-3.4.0" spellcheck="false" aria-label="Baseline" /></label>
    <p v-if="!alone && command.against?.trim()" class="label mt-1">Baseline and command take turns, so that a drift of the machine affects both alike, and are then compared: five takes of each, or as many as you ask for in a row. A program without arguments gets those of the command.</p>
    <p class="label mt-4">It is started exactly as written, without a shell, and is ended with the take.</p>
  </div>
</template>
