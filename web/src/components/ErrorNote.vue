<script setup lang="ts">
import { ApiError } from '../api/client'

defineProps<{ error: unknown; retry?: () => void }>()

const text = (e: unknown) => (e instanceof Error ? e.message : String(e))
const remedy = (e: unknown) => (e instanceof ApiError ? e.remedy : '')
</script>

<template>
  <div role="alert" class="m-6 max-w-[640px] border border-rule-strong border-l-4 border-l-alarm bg-sheet px-5 py-4">
    <p class="text-[15px]">{{ text(error) }}</p>
    <p v-if="remedy(error)" class="mt-1 text-ink-2">{{ remedy(error) }}</p>
    <button v-if="retry" class="action mt-3" @click="retry">Try again</button>
  </div>
</template>
