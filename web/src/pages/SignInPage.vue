<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ApiError } from '../api/client'
import { useMe } from '../composables/useMe'

const router = useRouter()
const route = useRoute()
const { changed } = useMe()
const name = ref('')
const password = ref('')
const failed = ref<unknown>()
const busy = ref(false)
document.title = 'Sign in – Entelon'

async function signIn() {
  busy.value = true
  failed.value = undefined
  try {
    changed(await api.signIn(name.value, password.value))
    const to = String(route.query.to ?? '/')
    await router.replace(to.startsWith('/') && !to.startsWith('//') ? to : '/')
  } catch (e) {
    failed.value = e
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="mx-auto mt-[18vh] w-[340px]" @submit.prevent="signIn">
    <h1 class="text-[22px] font-medium">Sign in</h1>
    <label class="mt-5 block"><span class="label">Name</span><input v-model="name" class="field mt-0.5 w-full !py-1.5" autocomplete="username" autofocus required /></label>
    <label class="mt-3 block"><span class="label">Password</span><input v-model="password" type="password" class="field mt-0.5 w-full !py-1.5" autocomplete="current-password" required /></label>
    <p v-if="failed" role="alert" class="mt-3 text-alarm">{{ (failed as Error).message }}<span v-if="failed instanceof ApiError && failed.remedy" class="block text-ink-2">{{ failed.remedy }}</span></p>
    <button class="action mt-4 !bg-ink !px-4 !py-1.5 !text-paper disabled:opacity-50" :disabled="busy">Sign in</button>
    <p class="mt-6 text-ink-2">No password yet? The server prints a link when it starts, and people who manage others can make one. It works once.</p>
  </form>
</template>
