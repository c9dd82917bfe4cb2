<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Share2 } from 'lucide-vue-next'
import { computed } from 'vue'
import { compareExportAddress, type ComparisonQuery } from '../api/client'
import { tell } from '../composables/useNotices'

/** A comparison for others. */
const props = defineProps<{ question: ComparisonQuery }>()
const files = computed(() => [
  { text: 'Report as one self-contained page', note: 'HTML', href: compareExportAddress('report.html', props.question) },
  { text: 'Comment for a merge request', note: 'Markdown', href: compareExportAddress('summary.md', props.question) },
])
async function copyLink() {
  try {
    await navigator.clipboard.writeText(location.href)
    tell('The link to this comparison was copied.', { seconds: 3 })
  } catch {
    tell('The browser blocked copying; copy the link from the address bar.', { bad: true })
  }
}
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="action !px-2 !py-0.5"><Share2 class="size-3.5" aria-hidden="true" />Share</MenuButton>
    <MenuItems class="absolute right-0 z-20 mt-1 min-w-72 border border-rule-strong bg-sheet py-1 whitespace-nowrap shadow-md outline-none">
      <MenuItem v-slot="{ active }"><button class="flex w-full px-3 py-1 text-left" :class="active && 'bg-wash'" @click="copyLink">Copy the link to this comparison</button></MenuItem>
      <MenuItem v-for="f in files" :key="f.text" v-slot="{ active }"><a class="flex w-full px-3 py-1" :class="active && 'bg-wash'" :href="f.href" download><span class="flex-1">{{ f.text }}</span><span class="label ml-4">{{ f.note }}</span></a></MenuItem>
    </MenuItems>
  </Menu>
</template>
