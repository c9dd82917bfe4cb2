<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, type Program } from '../api/client'
import EmptyTakes from '../components/EmptyTakes.vue'
import ErrorNote from '../components/ErrorNote.vue'
import NewTake from '../components/NewTake.vue'
import UploadList from '../components/UploadList.vue'
import SizeBars from '../components/SizeBars.vue'
import WaitNote from '../components/WaitNote.vue'
import { count, duration, percent, signed, when } from '../lib/format'

const programs = useQuery({ queryKey: ['programs'], queryFn: api.programs, staleTime: 0 })
const list = computed(() => programs.data.value?.programs ?? [])

// Exact runs have instructions, and no CPU time.
const cost = (b: Program['builds'][number]) => b.median_cpu_ns || b.median_instructions
const written = (b: Program['builds'][number]) => (b.median_cpu_ns ? duration(b.median_cpu_ns) : b.median_instructions ? count(b.median_instructions) : '–')
const highest = (p: Program) => Math.max(1, ...p.builds.map(cost))

/** How a build's cost differs from that of the build before it. */
function change(p: Program, i: number): number | undefined {
  const [before, after] = [p.builds[i - 1], p.builds[i]]
  if (!before || !cost(before) || !before.median_cpu_ns !== !after.median_cpu_ns) return undefined
  return cost(after) / cost(before) - 1
}
</script>

<template>
  <div class="flex h-full flex-col px-6 pt-4">
    <header class="mb-3 flex items-center gap-3">
      <h1 class="text-[22px] font-medium">Programs</h1>
      <div class="flex-1" />
      <NewTake />
    </header>
    <UploadList />
    <ErrorNote v-if="programs.isError.value" :error="programs.error.value" :retry="() => programs.refetch()" />
    <WaitNote v-else-if="programs.isPending.value" what="Loading the programs" />
    <EmptyTakes v-else-if="!list.length" />
    <div v-else class="min-h-0 flex-1 overflow-y-auto pb-8">
      <section v-for="p in list" :key="p.name" class="mb-8 border-t border-ink pt-3" :aria-label="p.name">
        <div class="mb-3 flex items-baseline gap-4">
          <h2 class="text-[19px] font-medium"><RouterLink :to="{ name: 'ledger', params: { name: p.name } }" class="word">{{ p.name }}</RouterLink></h2>
          <RouterLink :to="{ name: 'takes', query: { program: p.name } }" class="word text-ink-2">
            {{ count(p.builds.reduce((n, b) => n + b.takes + b.others, 0)) }} takes of {{ p.builds.length }} {{ p.builds.length === 1 ? 'build' : 'builds' }}
          </RouterLink>
          <span v-if="p.builds.some((b) => b.others)" class="label min-w-0 truncate">below, those of the workload <span class="code">{{ p.chief.name }}</span></span>
        </div>
        <table class="w-full max-w-[1080px] border-collapse">
          <thead>
            <tr class="border-b border-rule text-left">
              <th class="label w-44 pb-1 font-normal">Build</th>
              <th class="label w-16 pb-1 text-right font-normal">Takes</th>
              <th class="label w-28 pb-1 text-right font-normal">{{ p.builds.some((b) => b.median_instructions) ? 'Instructions' : 'CPU time' }}, median</th>
              <th class="label w-[300px] pb-1 pl-4 font-normal">of a take</th>
              <th class="label w-28 pb-1 text-right font-normal">to build before</th>
              <th class="label w-36 pb-1 pl-6 font-normal">Last take</th>
              <th class="pb-1" />
            </tr>
          </thead>
          <tbody>
            <tr v-for="(b, i) in p.builds" :key="b.name" class="border-b border-rule hover:bg-wash">
              <td class="py-2"><RouterLink :to="{ name: 'take', params: { key: b.last_take } }" class="font-medium hover:underline">{{ b.name }}</RouterLink></td>
              <td class="text-right" :title="b.others ? `${count(b.others)} more of other workloads` : undefined">{{ count(b.takes) }}<span v-if="b.others" class="text-ink-3"> +{{ count(b.others) }}</span></td>
              <td class="text-right">{{ written(b) }}</td>
              <td class="pl-4"><span class="block h-[7px] bg-bar" :style="{ width: (100 * cost(b)) / highest(p) + '%' }" aria-hidden="true" /></td>
              <td class="text-right">
                <span v-if="!b.takes" class="text-ink-3">other workloads</span>
                <span v-else-if="change(p, i) !== undefined" :class="change(p, i)! > 0 ? 'text-plum' : 'text-teal'">{{ signed(percent(change(p, i)!), change(p, i)!) }}</span>
                <span v-else class="text-ink-3">first</span>
              </td>
              <td class="pl-6 whitespace-nowrap text-ink-2">{{ when(b.last_at) }}</td>
              <td class="text-right">
                <RouterLink v-if="i > 0 && b.keys && p.builds[i - 1].keys" :to="{ name: 'compare', query: { baseline: p.builds[i - 1].keys, candidate: b.keys } }" class="action">Compare with {{ p.builds[i - 1].name }}</RouterLink>
              </td>
            </tr>
          </tbody>
        </table>
        <div v-if="p.newest.name.length" class="mt-4 max-w-[1080px]" :aria-label="`Hottest functions of ${p.name} ${p.newest.build}`">
          <h3 class="label mb-1 grid grid-cols-[minmax(0,1fr)_64px_64px_300px] gap-x-4"><span>Hottest in the newest take, {{ p.newest.build }}, by {{ p.newest.label }}</span><span class="text-right">self</span><span class="text-right">total</span><span>self over total</span></h3>
          <RouterLink
            v-for="(name, i) in p.newest.name"
            :key="name"
            :to="{ name: 'take', params: { key: p.newest.take }, query: { focus: name } }"
            class="grid grid-cols-[minmax(0,1fr)_64px_64px_300px] items-center gap-x-4 border-t border-rule py-1.5 hover:bg-wash"
            :title="name"
          >
            <span class="code truncate">{{ p.newest.short[i] }}</span>
            <span class="text-right">{{ percent(p.newest.self_share[i]) }}</span>
            <span class="text-right text-ink-2">{{ percent(p.newest.total_share[i]) }}</span>
            <SizeBars :self="p.newest.self_share[i]" :total="p.newest.total_share[i]" />
          </RouterLink>
        </div>
      </section>
    </div>
  </div>
</template>
