<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { X } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { api } from '../../api/client'
import { useMe } from '../../composables/useMe'

/** Where a program's source is: how paths in takes begin, and how they begin here. */
const props = defineProps<{ program: string; path: string }>()
const queries = useQueryClient()
const { may } = useMe()
const key = computed(() => ['sources', props.program])
const query = useQuery({ queryKey: key, queryFn: () => api.sources(props.program) })
const rules = computed(() => query.data.value?.rules ?? [])
// The folder of the file that is looked at is the likely beginning.
const begins = ref(props.path.replace(/[^/]*$/, ''))
const becomes = ref('')
const refused = ref('')
async function put(list: { begins: string; becomes: string }[]) {
  refused.value = ''
  try {
    queries.setQueryData(key.value, await api.setSources(props.program, list))
    await queries.invalidateQueries({ queryKey: ['lines'] })
    becomes.value = ''
  } catch (e) {
    refused.value = (e as Error).message
  }
}
const add = () => put([...rules.value.filter((r) => r.begins !== begins.value), { begins: begins.value, becomes: becomes.value }])
</script>

<template>
  <section class="border-b border-rule bg-sheet px-4 py-2" aria-label="Where the source is" data-test="source-rules">
    <p v-if="query.data.value && !query.data.value.folders.length" class="text-ink-2">This server has no source folders. Start it with <span class="code">--source FOLDER</span>, or use take with <span class="code">--with-source</span>.</p>
    <template v-else-if="query.data.value">
      <p class="label">The server looks for source below <span v-for="(f, i) in query.data.value.folders" :key="f" class="code">{{ i ? ', ' : '' }}{{ f }}</span>, matching paths from their end, and for {{ program }} by these rules:</p>
      <p v-for="r in rules" :key="r.begins" class="mt-1 flex items-center gap-2"><span class="code">{{ r.begins }}…</span><span class="label">is</span><span class="code">{{ r.becomes }}…</span><button v-if="may('work')" class="text-ink-3 hover:text-ink" :aria-label="`Remove the rule for ${r.begins}`" @click="put(rules.filter((x) => x !== r))"><X class="size-3.5" /></button></p>
      <p v-if="!rules.length" class="mt-1 text-ink-2">none yet</p>
      <form v-if="may('work')" class="mt-1.5 flex items-center gap-2" @submit.prevent="add">
        <input v-model="begins" class="field code min-w-0 flex-1" placeholder="/build/engraved/" aria-label="How paths in takes begin" spellcheck="false" required />
        <span class="label">is</span>
        <input v-model="becomes" class="field code min-w-0 flex-1" :placeholder="(query.data.value.folders[0] ?? '') + '/'" aria-label="How they begin here" spellcheck="false" required />
        <button class="action">Add</button>
      </form>
      <p v-if="refused" role="alert" class="mt-1 text-alarm">{{ refused }}</p>
    </template>
  </section>
</template>
