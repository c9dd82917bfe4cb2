<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTour } from '../composables/useTour'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()

/** A key with what it does, on the pages of these names, or on all. */
type Key = [key: string, what: string, on?: string[]]
const looking = ['take', 'running']
const groups: { name: string; keys: Key[] }[] = [
  {
    name: 'In a flame',
    keys: [
      ['arrows', 'walk: caller, callee, sibling', [...looking, 'compare']],
      ['Enter', 'dive into the frame', [...looking, 'compare']],
      ['Backspace', 'climb one step', [...looking, 'compare']],
      ['Esc', 'back to the whole, or end the search', [...looking, 'compare']],
      ['/', 'search', looking],
      ['m  M', 'next match, previous match', looking],
      ['u', 'turn the flame over', looking],
      ['t', 'one tree from the focus, or all stacks again', looking],
    ],
  },
  {
    name: 'In a list of paths or functions',
    keys: [
      ['arrows', 'up, down; open, close', [...looking, 'compare']],
      ['Enter', 'open or close', looking],
      ['u', 'paths from the leaves, from the roots', looking],
    ],
  },
  {
    name: 'In the call graph',
    keys: [
      ['+  -', 'zoom in, zoom out', looking],
      ['z', 'fit the drawing to its room', looking],
    ],
  },
  {
    name: 'In the lanes',
    keys: [
      ['+  -', 'zoom in, zoom out', looking],
      ['z', 'fit what is chosen, or the whole take', looking],
      ['arrows', 'the lane above, below; earlier, later', looking],
      ['[  ]', 'what the thread did before, after', looking],
      ['l', 'whoever ended the wait', looking],
      ['h', 'what held it up: the critical path', looking],
      ['b', 'the sampled path of the thread', looking],
      ['Enter', 'restrict the scope to what is chosen', looking],
    ],
  },
  {
    name: 'In the spans',
    keys: [
      ['[  ]', 'the next slower span, the next faster one', looking],
      ['h', 'what the slowest hundredth was slow for', looking],
      ['Enter', 'the span in the lanes, or only the chosen time', looking],
    ],
  },
  {
    name: 'In the ledger',
    keys: [
      ['arrows', 'up, down', ['ledger']],
      ['Enter', 'the function in the newest take', ['ledger']],
      ['/', 'find a function', ['ledger']],
      ['x', 'compare the last two builds', ['ledger']],
    ],
  },
  {
    name: 'Comparing',
    keys: [
      ['x', 'swap the sides', ['compare']],
      ['s', 'the next suspect', ['compare']],
      ['l', 'leave out takes that are far off', ['compare']],
    ],
  },
  {
    name: 'In the list of takes',
    keys: [['/', 'search', ['takes']]],
  },
  {
    name: 'What counts',
    keys: [
      ['=', 'type the scope as an expression', [...looking, 'compare']],
      ['i', 'idle in or out', looking],
      ['o', 'fold foreign code into the calls into it', looking],
      ['%', 'what 100 % is', looking],
      ['1 … 7', 'flame, functions, paths, neighbours, lines, lanes, events', looking],
      ['1  2  5', 'flame, functions, lines', ['compare']],
    ],
  },
  {
    name: 'Following a function',
    keys: [
      [',  .', 'previous focus, next focus', [...looking, 'compare', 'ledger', 'over']],
      ['p', 'pin or unpin it', [...looking, 'compare', 'ledger']],
      ['f', 'find in the index', looking],
    ],
  },
  {
    name: 'Everywhere',
    keys: [
      ['v', 'fold the reading', looking],
      ['n', 'notes on the take and the function in focus', looking],
      ['r', 'take again with the same settings', [...looking, 'compare', 'takes']],
      ['c', 'copy the link to this view'],
      ['?', 'these keys'],
    ],
  },
]
const router = useRouter()
const { begin } = useTour()
function tour() {
  emit('close')
  begin()
  void router.push({ name: 'programs' })
}
const route = useRoute()
const here = computed(() => groups.map((g) => ({ ...g, keys: g.keys.filter(([, , on]) => !on || on.includes(String(route.name))) })).filter((g) => g.keys.length))
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="$emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel class="max-h-full w-[640px] overflow-auto border border-rule-strong bg-sheet p-6">
        <DialogTitle class="mb-4 text-[17px] font-medium">Keys on this page</DialogTitle>
        <div class="grid grid-cols-2 gap-x-8 gap-y-5">
          <section v-for="g in here" :key="g.name">
            <h3 class="label mb-1.5 border-b border-rule pb-1">{{ g.name }}</h3>
            <dl class="grid grid-cols-[92px_1fr] gap-y-1">
              <template v-for="[key, what] in g.keys" :key="key">
                <dt class="code whitespace-pre text-ink">{{ key }}</dt>
                <dd class="text-ink-2">{{ what }}</dd>
              </template>
            </dl>
          </section>
        </div>
        <div class="mt-5 flex justify-end gap-2"><button class="action" @click="tour">Tour of the demo</button><button class="action" @click="$emit('close')">Close</button></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
