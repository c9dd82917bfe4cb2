<script setup lang="ts">
import { X } from 'lucide-vue-next'
import { useUploads } from '../composables/useUploads'

const { uploads, forget } = useUploads()
</script>

<template>
  <ul v-if="uploads.length" class="mb-3 space-y-1" aria-label="Uploads">
    <li
      v-for="u in uploads"
      :key="u.id"
      class="flex items-center gap-3 border border-rule bg-sheet px-3 py-1.5"
      :class="u.error && '!border-l-4 !border-l-alarm'"
      :role="u.error ? 'alert' : undefined"
    >
      <template v-if="u.error">
        <span class="min-w-0 flex-1">{{ u.error.message }}<span v-if="u.error.remedy" class="text-ink-2">; {{ u.error.remedy }}</span></span>
      </template>
      <template v-else-if="u.take">
        <span class="flex-1">
          {{ u.name }} {{ u.fresh ? 'was added' : 'was here already' }}:
          <RouterLink :to="{ name: 'take', params: { key: u.take.key } }" class="word">{{ u.take.program }} {{ u.take.build }}</RouterLink>
        </span>
      </template>
      <template v-else>
        <span class="w-64 truncate">{{ u.name }}</span>
        <progress class="h-1.5 flex-1" :value="u.share" max="1" />
        <span class="w-12 text-right text-ink-2">{{ Math.round(u.share * 100) }} %</span>
        <button class="word" @click="u.stop()">Cancel</button>
      </template>
      <button v-if="u.error || u.take" class="text-ink-3 hover:text-ink" aria-label="Dismiss" @click="forget(u.id)"><X class="size-4" /></button>
    </li>
  </ul>
</template>
