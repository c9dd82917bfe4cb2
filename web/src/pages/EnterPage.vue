<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { tell } from '../composables/useNotices'
import { useMe } from '../composables/useMe'

const route = useRoute()
const router = useRouter()
const { changed } = useMe()
const failed = ref<unknown>()
document.title = 'Entelon'

// A link works once, so a browser that only looks ahead must not use it up: the
// page does, and not the address itself.
api
  .enter(String(route.params.link))
  .then(async (me) => {
    changed(me)
    await router.replace('/')
    if (!me.password) tell(`Signed in as ${me.name}. Set a password under You, so that you can come again.`, { seconds: 10 })
  })
  .catch((e: unknown) => (failed.value = e))
</script>

<template>
  <div v-if="failed">
    <ErrorNote :error="failed" />
    <p class="mx-6"><RouterLink to="/sign-in" class="word">Sign in with name and password</RouterLink></p>
  </div>
  <WaitNote v-else what="Signing in" />
</template>
