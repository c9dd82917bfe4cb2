<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ApiError } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { when } from '../lib/format'

const router = useRouter()
const { me, query, changed, may } = useMe()
document.title = 'You – Entelon'

const name = ref('')
watch(me, (m) => (name.value = m?.name ?? ''), { immediate: true })
const before = ref('')
const password = ref('')
const endTokens = ref(false)
const failed = ref<{ of: string; error: Error }>()
async function attempt(of: string, work: () => Promise<void>) {
  failed.value = undefined
  try {
    await work()
  } catch (e) {
    failed.value = { of, error: e as Error }
  }
}
const rename = () =>
  attempt('name', async () => {
    changed(await api.changeMe({ name: name.value, password: '', before: '', end_tokens: false }))
    tell('Your name was changed.')
  })
const setPassword = () =>
  attempt('password', async () => {
    changed(await api.changeMe({ name: '', password: password.value, before: before.value, end_tokens: endTokens.value }))
    await tokens.refetch()
    password.value = before.value = ''
    tell(endTokens.value ? 'Your password was set. Other browsers were signed out and all tokens were removed.' : 'Your password was set. Other browsers were signed out.')
  })
async function signOut() {
  await api.signOut()
  changed(undefined)
  await router.replace('/sign-in')
}

const tokens = useQuery({ queryKey: ['tokens'], queryFn: api.tokens })
const roles = computed(() => [
  { value: 'look', text: 'look', note: 'see takes and comparisons' },
  ...(may('work') ? [{ value: 'work', text: 'work', note: 'send takes, write notes' }] : []),
  ...(may('collect') ? [{ value: 'collect', text: 'collect', note: 'launch, attach, count' }] : []),
])
const tokenName = ref('')
const tokenRole = ref('look')
const secret = ref('')
const make = () =>
  attempt('token', async () => {
    secret.value = (await api.addToken(tokenName.value, tokenRole.value)).secret
    tokenName.value = ''
    await tokens.refetch()
  })
async function remove(id: number) {
  await attempt('token', async () => {
    await api.removeToken(id)
    await tokens.refetch()
  })
}
async function copy() {
  try {
    await navigator.clipboard.writeText(secret.value)
    tell('The token was copied.')
  } catch {
    tell('The browser did not allow copying; select the token instead.', { bad: true, seconds: 8 })
  }
}
</script>

<template>
  <div class="h-full overflow-y-auto">
    <header class="flex h-[52px] items-center gap-3 border-b border-rule px-6">
      <h1 class="text-[15.5px]"><span class="font-medium">{{ me?.name }}</span> <span v-if="me" class="text-ink-2">may {{ me.role === 'look' ? 'look' : me.role === 'work' ? 'look and work' : 'look, work and collect' }}{{ me.owner ? ', and manages people' : '' }}</span></h1>
      <div class="flex-1" />
      <RouterLink v-if="me?.owner" to="/people" class="action">People and what was done</RouterLink>
      <button class="action" @click="signOut">Sign out</button>
    </header>
    <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <div class="grid max-w-[980px] grid-cols-[1fr_1.5fr] gap-x-12 px-6 py-6">
      <div>
        <form @submit.prevent="rename">
          <h2 class="border-b border-rule pb-1 text-[15px] font-medium">Name</h2>
          <div class="mt-3 flex gap-2"><input v-model="name" class="field min-w-0 flex-1" aria-label="Name" autocomplete="username" required /><button class="action" :disabled="name === me?.name">Change</button></div>
          <p v-if="failed?.of === 'name'" role="alert" class="mt-2 text-alarm">{{ failed.error.message }}</p>
        </form>
        <form class="mt-8" @submit.prevent="setPassword">
          <h2 class="border-b border-rule pb-1 text-[15px] font-medium">Password</h2>
          <p v-if="me && !me.password" class="mt-2 text-ink-2">You have none yet: without one, you need a new link each time.</p>
          <label v-if="me?.password" class="mt-3 block"><span class="label">Current password</span><input v-model="before" type="password" class="field mt-0.5 w-full" autocomplete="current-password" required /></label>
          <label class="mt-3 block"><span class="label">New password, at least 10 characters</span><input v-model="password" type="password" class="field mt-0.5 w-full" autocomplete="new-password" minlength="10" required /></label>
          <label v-if="me?.password" class="mt-3 flex items-center gap-2"><input v-model="endTokens" type="checkbox" />Remove my tokens, too</label>
          <p v-if="failed?.of === 'password'" role="alert" class="mt-2 text-alarm">{{ failed.error.message }}</p>
          <button class="action mt-3">{{ me?.password ? 'Change the password' : 'Set the password' }}</button>
        </form>
      </div>
      <section aria-label="Tokens">
        <h2 class="border-b border-rule pb-1 text-[15px] font-medium">Tokens</h2>
        <p class="mt-2 text-ink-2">For programs, such as <span class="code">entelon send</span> in a build. Each is shown once.</p>
        <form class="mt-3 flex items-center gap-2" @submit.prevent="make">
          <input v-model="tokenName" class="field min-w-0 flex-1" placeholder="What it is for" aria-label="What the token is for" required />
          <ChoiceMenu v-model="tokenRole" :choices="roles" name="What it may do" />
          <button class="action">Make a token</button>
        </form>
        <p v-if="failed?.of === 'token'" role="alert" class="mt-2 text-alarm">{{ failed.error.message }}<span v-if="failed.error instanceof ApiError">; {{ failed.error.remedy }}</span></p>
        <div v-if="secret" class="mt-3 border border-rule-strong bg-wash px-3 py-2" role="status">
          <p class="label">The new token. It is not shown again.</p>
          <p class="flex items-center gap-3"><span class="code min-w-0 flex-1 break-all select-all" data-test="secret">{{ secret }}</span><button class="action" @click="copy">Copy</button></p>
        </div>
        <table v-if="tokens.data.value?.tokens.length" class="mt-4 w-full">
          <thead><tr class="label text-left"><th class="pb-1 font-normal">For</th><th class="pb-1 font-normal">May</th><th class="pb-1 font-normal">Made</th><th class="pb-1 font-normal">Last used</th><th /></tr></thead>
          <tbody>
            <tr v-for="t in tokens.data.value.tokens" :key="t.id" class="border-t border-rule">
              <td class="py-1.5">{{ t.name }}</td>
              <td>{{ t.role }}</td>
              <td>{{ when(t.created_at) }}</td>
              <td>{{ t.used_at ? when(t.used_at) : 'never' }}</td>
              <td class="text-right"><button class="word" @click="remove(t.id)">remove</button></td>
            </tr>
          </tbody>
        </table>
        <p v-else-if="tokens.data.value" class="mt-4 text-ink-2">You have no tokens.</p>
      </section>
    </div>
  </div>
</template>
