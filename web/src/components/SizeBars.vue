<script setup lang="ts">
// Two thin bars: the self cost over the total cost, both as shares of what counts.
defineProps<{ self: number; total: number }>()
</script>

<template>
  <span class="block h-[5px] w-full" aria-hidden="true">
    <span class="block h-[2px] bg-bar" :style="{ width: Math.max(0, self * 100) + '%' }" />
    <span class="mt-px block h-[2px] bg-bar-pale" :style="{ width: Math.max(0, total * 100) + '%' }" />
  </span>
</template>
