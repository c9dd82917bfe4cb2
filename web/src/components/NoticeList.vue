<script setup lang="ts">
import { X } from 'lucide-vue-next'
import { dismiss, notices } from '../composables/useNotices'
</script>

<template>
  <div class="pointer-events-none fixed bottom-4 left-1/2 z-40 flex -translate-x-1/2 flex-col gap-2" aria-live="polite">
    <div
      v-for="n in notices"
      :key="n.id"
      :role="n.bad ? 'alert' : 'status'"
      class="pointer-events-auto flex max-w-[720px] items-start gap-3 border border-rule-strong bg-sheet px-4 py-2.5 shadow-sm"
      :class="n.bad && '!border-l-4 !border-l-alarm'"
    >
      <span>{{ n.text }}</span>
      <button v-if="n.undo" class="word" @click="(n.undo(), dismiss(n.id))">Undo</button>
      <button class="mt-px text-ink-3 hover:text-ink" aria-label="Dismiss" @click="dismiss(n.id)"><X class="size-4" /></button>
    </div>
  </div>
</template>
