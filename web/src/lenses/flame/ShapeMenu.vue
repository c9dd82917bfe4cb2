<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Check, FoldVertical } from 'lucide-vue-next'
import { computed } from 'vue'
import type { Range } from '../../api/client'

/** How stacks become a tree: what is folded, what stands at the roots, where it begins. */
const props = defineProps<{ range: Range; focus: string }>()
const emit = defineEmits<{ shape: [change: Record<string, string | undefined>] }>()
const flip = (key: 'fold' | 'group' | 'through', value: string) => emit('shape', { [key]: props.range[key] === value ? undefined : value })
const short = computed(() => props.focus.split('/').at(-1))
const choices = computed(() => [
  { text: 'Foreign code folded into the calls into it', key: 'o', on: props.range.fold === 'foreign', act: () => flip('fold', 'foreign') },
  { text: 'The runtime folded into its callers', on: props.range.fold === 'runtime', act: () => flip('fold', 'runtime') },
  { text: 'Recursion merged', on: !!props.range.merge, act: () => emit('shape', { merge: props.range.merge ? undefined : 'true' }) },
  { text: 'By thread', on: props.range.group === 'thread', act: () => flip('group', 'thread') },
  { text: 'By process', on: props.range.group === 'process', act: () => flip('group', 'process') },
  { text: 'By module of the innermost function', on: props.range.group === 'module', act: () => flip('group', 'module') },
  ...(props.focus || props.range.through ? [{ text: props.range.through ? 'All stacks again' : `Everything through ${short.value}, in one tree from it`, key: 't', on: !!props.range.through, act: () => emit('shape', { through: props.range.through ? undefined : props.focus }) }] : []),
])
const some = computed(() => choices.value.filter((c) => c.on).length)
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="action !px-2 !py-0.5"><FoldVertical class="size-3.5" aria-hidden="true" />Shape<template v-if="some"> ({{ some }})</template></MenuButton>
    <MenuItems class="absolute right-0 z-20 mt-1 min-w-72 border border-rule-strong bg-sheet py-1 whitespace-nowrap shadow-md outline-none">
      <MenuItem v-for="c in choices" :key="c.text" v-slot="{ active }">
        <button class="flex w-full items-center gap-2 px-3 py-1 text-left" :class="active && 'bg-wash'" :aria-pressed="c.on" @click="c.act"><Check class="size-3.5" :class="!c.on && 'invisible'" aria-hidden="true" /><span class="max-w-80 flex-1 truncate">{{ c.text }}</span><span v-if="c.key" class="code text-ink-3">{{ c.key }}</span></button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
