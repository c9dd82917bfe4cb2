<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, type Person } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import { useMe } from '../composables/useMe'
import { when } from '../lib/format'

const { me } = useMe()
document.title = 'People – Entelon'
const people = useQuery({ queryKey: ['people'], queryFn: api.people })
const audit = useQuery({ queryKey: ['audit'], queryFn: () => api.audit(200), staleTime: 0 })
const roles = ['look', 'work', 'collect'].map((r) => ({ value: r, text: r }))
const name = ref('')
const role = ref('work')
const link = ref<{ name: string; address: string }>()
const failed = ref<Error>()

async function attempt(work: () => Promise<unknown>) {
  failed.value = undefined
  try {
    await work()
  } catch (e) {
    failed.value = e as Error
  }
  await Promise.all([people.refetch(), audit.refetch()])
}
const add = () =>
  attempt(async () => {
    const p = await api.addPerson(name.value, role.value)
    link.value = { name: p.person.name, address: location.origin + p.path }
    name.value = ''
  })
const invite = (p: Person) =>
  attempt(async () => {
    link.value = { name: p.name, address: location.origin + (await api.linkFor(p.id)).path }
  })
const change = (p: Person, what: { role?: string; owner?: boolean; disabled?: boolean }) => attempt(() => api.changePerson(p.id, what))
</script>

<template>
  <div class="h-full overflow-y-auto">
    <header class="flex h-[52px] items-center border-b border-rule px-6"><h1 class="text-[15.5px] font-medium">People</h1></header>
    <ErrorNote v-if="people.isError.value" :error="people.error.value" :retry="() => people.refetch()" />
    <div v-else class="max-w-[980px] px-6 py-5">
      <form class="flex items-center gap-2" @submit.prevent="add">
        <input v-model="name" class="field w-[240px]" placeholder="Name" aria-label="Name of the new person" required />
        <ChoiceMenu v-model="role" :choices="roles" name="Role" />
        <button class="action">Add, with a sign-in link</button>
      </form>
      <p v-if="failed" role="alert" class="mt-2 text-alarm">{{ failed.message }}</p>
      <div v-if="link" class="mt-3 border border-rule-strong bg-wash px-3 py-2" role="status">
        <p class="label">Give this to {{ link.name }}. It works once, within a day, and is not shown again.</p>
        <p class="code break-all select-all">{{ link.address }}</p>
      </div>
      <table class="mt-5 w-full">
        <thead><tr class="label text-left"><th class="pb-1 font-normal">Name</th><th class="pb-1 font-normal">May</th><th class="pb-1 font-normal">Manages people</th><th class="pb-1 font-normal">Last seen</th><th /></tr></thead>
        <tbody>
          <tr v-for="p in people.data.value?.people" :key="p.id" class="border-t border-rule" :class="p.disabled && 'text-ink-3'">
            <td class="py-1.5">{{ p.name }}<span v-if="p.disabled"> (locked out)</span><span v-else-if="!p.password" class="label"> no password yet</span></td>
            <td><ChoiceMenu :model-value="p.role" :choices="roles" name="Role" plain @update:model-value="$event && change(p, { role: $event })" /></td>
            <td><input type="checkbox" class="accent-ink" :checked="p.owner" :aria-label="`${p.name} manages people`" @change="change(p, { owner: !p.owner })" /></td>
            <td>{{ p.seen_at ? when(p.seen_at) : 'never' }}</td>
            <td class="space-x-3 text-right">
              <button class="word" @click="invite(p)">new link</button>
              <button v-if="p.name !== me?.name" class="word" @click="change(p, { disabled: !p.disabled })">{{ p.disabled ? 'let in again' : 'lock out' }}</button>
            </td>
          </tr>
        </tbody>
      </table>
      <h2 class="mt-9 border-b border-rule pb-1 text-[15px] font-medium">What was done</h2>
      <table class="mt-2 w-full">
        <tbody>
          <tr v-for="e in audit.data.value?.events" :key="e.id" class="border-b border-rule">
            <td class="w-[150px] py-1 text-ink-2">{{ when(e.at) }}</td>
            <td class="w-[160px]">{{ e.who || 'nobody' }}</td>
            <td class="w-[150px]">{{ e.what }}</td>
            <td class="text-ink-2">{{ Object.entries(e.detail).map(([k, v]) => `${k} ${v}`).join(', ') }}</td>
            <td class="text-right text-ink-3">{{ e.source }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
