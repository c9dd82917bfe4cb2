<script setup lang="ts">
defineProps<{ live?: boolean }>()
const here = location.origin
</script>

<template>
  <div class="mx-auto mt-16 max-w-[620px]">
    <h2 class="text-[20px] font-medium">No takes yet</h2>
    <p class="mt-2 text-ink-2">A take is one bounded look at a running program. Make one and send it here:</p>
    <pre class="code mt-4 overflow-x-auto border border-rule bg-sheet p-4 leading-6">entelon take --out first.take -- ./your-program its arguments
entelon send first.take --to {{ here }}</pre>
    <p class="mt-4 text-ink-2">For a process that is already running, use <span class="code">--pid NUMBER --for 10s</span> in place of the command. Or drop a .take file onto this page.</p>
  </div>
</template>
