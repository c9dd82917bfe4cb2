<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import { useMe } from '../composables/useMe'
import { count } from '../lib/format'

const props = defineProps<{ collector: string }>()
const emit = defineEmits<{ program: [name: string] }>()
const picked = defineModel<string>({ required: true })
const { may } = useMe()
const needle = ref('')
const groups = useQuery({
  queryKey: ['groups', computed(() => props.collector)],
  queryFn: () => api.groups(props.collector),
  enabled: computed(() => props.collector !== '' && may('collect')),
  staleTime: 0,
  refetchInterval: 6000,
  retry: false,
})
const list = computed(() => {
  const n = needle.value.toLowerCase()
  return (groups.data.value?.groups ?? []).filter((g) => !n || `${g.path} ${g.programs.join(' ')}`.toLowerCase().includes(n))
})
function pick(path: string) {
  picked.value = picked.value === path ? '' : path
  if (picked.value) emit('program', path.split('/').at(-1) ?? path)
}
const grid = 'grid grid-cols-[minmax(200px,2fr)_90px_minmax(140px,1fr)] items-center gap-x-3 px-3'
</script>

<template>
  <ErrorNote v-if="groups.isError.value" :error="groups.error.value" :retry="() => groups.refetch()" />
  <template v-else>
    <div class="flex h-[36px] shrink-0 items-center border-b border-rule px-3"><input v-model="needle" class="field w-56 !py-0.5" placeholder="Find a group or a container" aria-label="Find a group or a container" /><span class="label ml-auto">Everything in the group is sampled, and in those below it</span></div>
    <div class="label h-[26px] shrink-0 border-b border-rule" :class="grid"><span>Control group</span><span class="text-right">Processes</span><span>Programs</span></div>
    <div class="min-h-0 flex-1 overflow-y-auto" role="listbox" aria-label="Control groups">
      <button v-for="g in list" :key="g.path" type="button" role="option" :aria-selected="picked === g.path" class="w-full border-b border-l-[3px] border-transparent border-b-rule py-[5px] text-left hover:bg-wash" :class="[grid, picked === g.path && '!border-l-ink bg-wash font-medium']" data-test="group" @click="pick(g.path)">
        <span class="code truncate" :title="g.path">{{ g.path }}</span><span class="text-right">{{ count(g.processes) }}</span><span class="truncate text-ink-2">{{ g.programs.join(', ') }}</span>
      </button>
      <p v-if="groups.data.value && !list.length" class="p-4 text-ink-2">{{ needle ? 'No group has this in its path or programs.' : 'Nothing runs in a control group of its own here.' }}</p>
    </div>
  </template>
</template>
