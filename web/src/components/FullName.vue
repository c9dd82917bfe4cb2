<script setup lang="ts">
import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/vue'
import { ChevronRight } from 'lucide-vue-next'

defineProps<{ name: string; linkage: string }>()
</script>

<template>
  <Disclosure v-slot="{ open }">
    <DisclosureButton class="label mt-0.5 flex items-center gap-0.5 hover:text-ink">
      <ChevronRight class="size-3" :class="open && 'rotate-90'" aria-hidden="true" />full name
    </DisclosureButton>
    <DisclosurePanel>
      <p class="code text-[11px] break-all text-ink-2">{{ name }}</p>
      <p v-if="linkage" class="code mt-1 text-[11px] break-all text-ink-3"><span class="label font-sans">to the linker </span>{{ linkage }}</p>
    </DisclosurePanel>
  </Disclosure>
</template>
