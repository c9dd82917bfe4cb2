<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, type Take } from '../api/client'
import { useMe } from '../composables/useMe'
import { useWorkloads } from '../composables/useWorkloads'
import { count } from '../lib/format'
import ChoiceMenu from './ChoiceMenu.vue'

/** What a take's program was made to do, and how to say that it was something else. */
const props = defineProps<{ take: Take }>()
const { may } = useMe()
const moving = ref(false)
const program = computed(() => props.take.program)
const query = useQuery({ queryKey: ['workloads', program], queryFn: () => api.workloads(program.value), enabled: moving })
const fresh = 'new'
const choices = computed(() => [
  ...(query.data.value?.workloads ?? []).filter((w) => w.id !== props.take.workload_id).map((w) => ({ value: String(w.id), text: w.name, note: count(w.takes) })),
  { value: fresh, text: 'a new workload …' },
])
const chosen = ref('')
const to = computed({ get: () => choices.value.find((c) => c.value === chosen.value)?.value ?? choices.value[0].value, set: (v) => (chosen.value = v) })
const name = ref('')
const { change } = useWorkloads(program)
async function move() {
  const where = to.value === fresh ? { name: name.value } : { into: Number(to.value) }
  if (await change(() => api.moveTakes(program.value, [props.take.key], where), 'The take was moved to another workload.')) moving.value = false
}
</script>

<template>
  <span>
    <span :class="moving && 'text-ink-2'">{{ take.workload || 'not known yet' }}</span>
    <button v-if="may('work') && take.workload_id && !moving" class="word label ml-2" @click="moving = true">move to another</button>
    <form v-if="moving" class="mt-1 flex flex-wrap items-center gap-2" @submit.prevent="move">
      <span class="text-ink-2">to</span><ChoiceMenu v-model="to" :choices="choices" name="Workload" />
      <input v-if="to === fresh" v-model="name" class="field" maxlength="200" placeholder="Name" aria-label="Name of the new workload" @keydown.stop />
      <button class="action" :disabled="to === fresh && !name.trim()">Move</button><button type="button" class="action" @click="moving = false">Cancel</button>
    </form>
  </span>
</template>
