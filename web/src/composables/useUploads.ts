import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { type ApiError, type Take, upload } from '../api/client'

export type Upload = { id: number; name: string; share: number; error?: ApiError; take?: Take; fresh?: boolean; stop: () => void }

const uploads = ref<Upload[]>([])
let last = 0

/** Files on their way to the server, with what became of each. */
export function useUploads() {
  const queries = useQueryClient()

  function send(files: Iterable<File>) {
    for (const file of files) {
      const id = ++last
      const change = (part: Partial<Upload>) => (uploads.value = uploads.value.map((u) => (u.id === id ? { ...u, ...part } : u)))
      const { done, stop } = upload(file, (share) => change({ share }))
      uploads.value = [...uploads.value, { id, name: file.name, share: 0, stop }]
      done.then(
        (r) => {
          change({ share: 1, take: r.take, fresh: r.fresh })
          void queries.invalidateQueries({ queryKey: ['takes'] })
          void queries.invalidateQueries({ queryKey: ['programs'] })
        },
        (error: ApiError) => change({ error }),
      )
    }
  }

  const forget = (id: number) => (uploads.value = uploads.value.filter((u) => u.id !== id))
  return { uploads, send, forget }
}
