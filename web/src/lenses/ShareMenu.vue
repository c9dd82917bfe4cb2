<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Share2 } from 'lucide-vue-next'
import { computed } from 'vue'
import { exportAddress, type Range } from '../api/client'
import { tell } from '../composables/useNotices'

/** What is shown, to take along: a link, or a file. */
const props = defineProps<{ takeKey: string; range: Range; focus: string; root: number; order: string; up: boolean; name: string; first?: string }>()
const query = computed(() => ({ ...props.range, focus: props.focus || undefined }))
const picture = (pixels: number) => exportAddress(props.takeKey, 'picture.svg', { ...query.value, root: props.root || undefined, order: props.order, up: props.up || undefined, pixels })
const files = computed(() => [...all.value.filter((f) => f.file === props.first), ...all.value.filter((f) => f.file !== props.first)])
const all = computed(() => [
  { file: 'report.html', text: 'Report as one self-contained page', note: 'HTML', href: exportAddress(props.takeKey, 'report.html', query.value) },
  { file: 'picture.svg', text: 'Flame as a picture', note: 'SVG', href: picture(1400) },
  { file: 'table.csv', text: 'Hot functions as a table', note: 'CSV', href: exportAddress(props.takeKey, 'table.csv', query.value) },
  { file: 'stacks.txt', text: 'Stacks, one a line', note: 'text', href: exportAddress(props.takeKey, 'stacks.txt', query.value) },
  { file: 'data.json', text: 'Everything in columns, for programs', note: 'JSON', href: exportAddress(props.takeKey, 'data.json', query.value) },
])

async function copyLink() {
  try {
    await navigator.clipboard.writeText(location.href)
    tell('The link to this view was copied.', { seconds: 3 })
  } catch {
    tell('The browser blocked copying; copy the link from the address bar.', { bad: true })
  }
}

/** The picture as pixels, twice as many as points, drawn by the browser itself. */
async function pixels(): Promise<Blob> {
  const response = await fetch(picture(1400))
  if (!response.ok) throw new Error('the picture could not be drawn')
  const address = URL.createObjectURL(new Blob([await response.text()], { type: 'image/svg+xml' }))
  try {
    const image = new Image()
    await new Promise((done, failed) => {
      image.onload = done
      image.onerror = () => failed(new Error('the picture could not be drawn'))
      image.src = address
    })
    const canvas = document.createElement('canvas')
    canvas.width = 2 * image.width
    canvas.height = 2 * image.height
    const c = canvas.getContext('2d')!
    c.scale(2, 2)
    c.drawImage(image, 0, 0)
    return await new Promise<Blob>((done, failed) => canvas.toBlob((b) => (b ? done(b) : failed(new Error('the picture is too large'))), 'image/png'))
  } finally {
    URL.revokeObjectURL(address)
  }
}
async function savePixels() {
  try {
    const a = document.createElement('a')
    a.href = URL.createObjectURL(await pixels())
    a.download = `${props.name}.png`
    a.click()
    setTimeout(() => URL.revokeObjectURL(a.href), 10_000)
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
}
async function copyPixels() {
  try {
    await navigator.clipboard.write([new ClipboardItem({ 'image/png': await pixels() })])
    tell('The picture was copied.', { seconds: 3 })
  } catch {
    tell('The browser does not allow copying pictures here; save it instead.', { bad: true })
  }
}
/** Prints the picture alone, from a frame that nobody sees. */
async function printPicture() {
  try {
    const response = await fetch(picture(1400))
    if (!response.ok) throw new Error('the picture could not be drawn')
    const address = URL.createObjectURL(new Blob([await response.text()], { type: 'image/svg+xml' }))
    const frame = document.createElement('iframe')
    frame.style.cssText = 'position:fixed;width:0;height:0;border:0'
    frame.title = 'Picture to print'
    document.body.append(frame)
    const image = frame.contentDocument!.createElement('img')
    image.style.width = '100%'
    image.onload = () => {
      frame.contentWindow!.onafterprint = () => {
        frame.remove()
        URL.revokeObjectURL(address)
      }
      frame.contentWindow!.print()
    }
    frame.contentDocument!.body.append(image)
    image.src = address
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
}
const acts = [
  { text: 'Copy the link to this view', note: 'c', act: copyLink },
  { text: 'Copy the flame as a picture', note: 'PNG', act: copyPixels },
  { text: 'Save the flame as a picture', note: 'PNG', act: savePixels },
  { text: 'Print the flame', note: '', act: printPicture },
]
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="action !px-2 !py-0.5"><Share2 class="size-3.5" aria-hidden="true" />Share</MenuButton>
    <MenuItems class="absolute right-0 z-20 mt-1 min-w-72 border border-rule-strong bg-sheet py-1 whitespace-nowrap shadow-md outline-none">
      <MenuItem v-for="a in acts" :key="a.text" v-slot="{ active }"><button class="flex w-full px-3 py-1 text-left" :class="active && 'bg-wash'" @click="a.act"><span class="flex-1">{{ a.text }}</span><span class="label ml-4">{{ a.note }}</span></button></MenuItem>
      <MenuItem v-for="f in files" :key="f.text" v-slot="{ active }"><a class="flex w-full px-3 py-1" :class="active && 'bg-wash'" :href="f.href" download><span class="flex-1">{{ f.text }}</span><span class="label ml-4">{{ f.note }}</span></a></MenuItem>
    </MenuItems>
  </Menu>
</template>
