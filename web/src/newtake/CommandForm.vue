<script setup lang="ts">
import { computed } from 'vue'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import { words } from '../lib/commandWords'
import type { Command } from '../composables/useCommands'

const command = defineModel<Command>({ required: true })
const props = defineProps<{ known: Record<string, Command> }>()
const emit = defineEmits<{ program: [name: string] }>()
const parsed = computed(() => words(command.value.line))
const choices = computed(() => Object.entries(props.known).map(([name, c]) => ({ value: name, text: name, note: c.line })))
const recalled = computed({
  get: () => '',
  set: (name) => {
    if (props.known[name]) command.value = { ...props.known[name] }
    emit('program', name)
  },
})
</script>

<template>
  <div class="max-w-[720px] overflow-y-auto px-6 py-5">
    <div v-if="choices.length" class="mb-4 flex items-center gap-2"><span class="label">As before:</span><ChoiceMenu v-model="recalled" :choices="choices" name="A command from before" /></div>
    <label class="block"><span class="label">Command, its words apart by blanks, with quotes around what belongs together</span><input v-model="command.line" class="field code mt-0.5 w-full !py-1.5" placeholder="/srv/bin/engraved --scores 200" spellcheck="false" /></label>
    <p v-if="parsed.length" class="label mt-1">{{ parsed.length }} words: <span v-for="(w, i) in parsed" :key="i" class="code mr-1 border border-rule bg-wash px-1">{{ w }}</span></p>
    <div class="mt-4 grid grid-cols-2 gap-4">
      <label class="block"><span class="label">Directory</span><input v-model="command.dir" class="field code mt-0.5 w-full" spellcheck="false" /></label>
      <label class="block"><span class="label">User, if not the first that the machine allows</span><input v-model="command.user" class="field mt-0.5 w-full" spellcheck="false" /></label>
    </div>
    <label class="mt-4 block"><span class="label">Environment, as NAME=VALUE words</span><input v-model="command.env" class="field code mt-0.5 w-full" placeholder="WORKERS=4" spellcheck="false" /></label>
    <label class="mt-4 block"><span class="label">Interleaved with a baseline, if there is one: another build of it, or another command</span><input v-model="command.against" class="field code mt-0.5 w-full" placeholder="/srv/bin/engraved-3.4.0" spellcheck="false" aria-label="Baseline" /></label>
    <p v-if="command.against?.trim()" class="label mt-1">Baseline and command are taken one after the other, so that a drift of the machine meets both alike, and then compared: five takes of each, or as many as takes in a row are asked for. A program alone gets the arguments of the command.</p>
    <p class="label mt-4">It is started as it stands here, without a shell, and ends with the take.</p>
  </div>
</template>
