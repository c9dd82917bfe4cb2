import { ref } from 'vue'

/** Short words at the lower edge: what was done, what failed, and the way back. */
export type Notice = { id: number; text: string; bad: boolean; undo?: () => void }

export const notices = ref<Notice[]>([])
let last = 0

export function tell(text: string, o: { bad?: boolean; undo?: () => void; seconds?: number } = {}): number {
  const n = { id: ++last, text, bad: !!o.bad, undo: o.undo }
  notices.value = [...notices.value, n].slice(-4)
  if (!o.bad || o.seconds) setTimeout(() => dismiss(n.id), (o.seconds ?? 4) * 1000)
  return n.id
}

export function dismiss(id: number) {
  notices.value = notices.value.filter((n) => n.id !== id)
}
