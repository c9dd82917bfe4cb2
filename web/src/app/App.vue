<script setup lang="ts">
import { useIsFetching } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onNobody } from '../api/client'
import KeysDialog from '../components/KeysDialog.vue'
import OrderDialog from '../components/OrderDialog.vue'
import NoticeList from '../components/NoticeList.vue'
import SamplingSign from '../components/SamplingSign.vue'
import SideSpine from '../components/SideSpine.vue'
import TourStrip from '../components/TourStrip.vue'
import { tell } from '../composables/useNotices'
import { useKeys } from '../composables/useKeys'

const keysOpen = ref(false)
const asked = useIsFetching()
const route = useRoute()
const router = useRouter()

onNobody(() => {
  if (!route.meta.open) void router.replace({ name: 'sign-in', query: { to: route.fullPath } })
})

async function copyLink() {
  try {
    await navigator.clipboard.writeText(location.href)
    tell('The link to this view was copied.')
  } catch {
    tell('The browser blocked copying; copy the link from the address bar.', { bad: true, seconds: 8 })
  }
}

useKeys({ '?': () => (keysOpen.value = true), c: copyLink })
</script>

<template>
  <div class="flex h-full">
    <SideSpine v-if="!route.meta.open" @keys="keysOpen = true" />
    <main class="flex min-w-0 flex-1 flex-col" :aria-busy="asked > 0">
      <SamplingSign v-if="!route.meta.open" />
      <div class="min-h-0 flex-1"><RouterView /></div>
      <TourStrip v-if="!route.meta.open" />
    </main>
    <KeysDialog :open="keysOpen" @close="keysOpen = false" />
    <OrderDialog />
    <NoticeList />
  </div>
</template>
