<script setup lang="ts">
import { onBeforeUnmount, ref } from 'vue'

defineProps<{ what: string }>()
// What is there at once needs no words.
const visible = ref(false)
const timer = setTimeout(() => (visible.value = true), 250)
onBeforeUnmount(() => clearTimeout(timer))
</script>

<template>
  <p v-if="visible" class="p-6 text-ink-3" role="status">{{ what }}</p>
</template>
