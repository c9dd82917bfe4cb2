<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean }>()
defineEmits<{ close: [] }>()

const groups: { name: string; keys: [string, string][] }[] = [
  {
    name: 'In a flame',
    keys: [
      ['arrows', 'walk: caller, callee, sibling'],
      ['Enter', 'dive into the frame'],
      ['Backspace', 'climb one step'],
      ['Esc', 'back to the whole, or end the search'],
      ['/', 'search'],
      ['m  M', 'next match, match before'],
      ['u', 'turn the flame over'],
      ['t', 'one tree from the focus, or all stacks again'],
    ],
  },
  {
    name: 'In a list of paths or functions',
    keys: [
      ['arrows', 'up, down; open, close'],
      ['Enter', 'open or close'],
      ['u', 'paths from the leaves, from the roots'],
    ],
  },
  {
    name: 'What counts',
    keys: [
      ['=', 'type the scope as an expression'],
      ['i', 'idle in or out'],
      ['o', 'fold foreign code into the calls into it'],
      ['%', 'what 100 % is'],
      ['1 … 5', 'the lens'],
    ],
  },
  {
    name: 'Following a function',
    keys: [
      [',  .', 'earlier focus, later focus'],
      ['p', 'pin it, or let it go'],
      ['f', 'find in the index'],
    ],
  },
  {
    name: 'Everywhere',
    keys: [
      ['v', 'fold the reading'],
      ['n', 'notes on the take and the function in focus'],
      ['r', 'take again with the same settings'],
      ['x', 'exchange the sides of a comparison; in a ledger, compare the last two builds'],
      ['s', 'the next suspect of a comparison'],
      ['c', 'copy the link to this view'],
      ['?', 'these keys'],
    ],
  },
]
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="$emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel class="max-h-full w-[640px] overflow-auto border border-rule-strong bg-sheet p-6">
        <DialogTitle class="mb-4 text-[17px] font-medium">Keys</DialogTitle>
        <div class="grid grid-cols-2 gap-x-8 gap-y-5">
          <section v-for="g in groups" :key="g.name">
            <h3 class="label mb-1.5 border-b border-rule pb-1">{{ g.name }}</h3>
            <dl class="grid grid-cols-[92px_1fr] gap-y-1">
              <template v-for="[key, what] in g.keys" :key="key">
                <dt class="code whitespace-pre text-ink">{{ key }}</dt>
                <dd class="text-ink-2">{{ what }}</dd>
              </template>
            </dl>
          </section>
        </div>
        <div class="mt-5 text-right"><button class="action" @click="$emit('close')">Close</button></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
