import { onBeforeUnmount, onMounted } from 'vue'

/** Keys by what they produce, with what they do; none needs Ctrl, Alt or Meta. */
export type Keys = Record<string, (e: KeyboardEvent) => void>

function typing(target: EventTarget | null): boolean {
  const el = target as HTMLElement | null
  return !!el && (el.tagName === 'TEXTAREA' || el.isContentEditable || (el.tagName === 'INPUT' && (el as HTMLInputElement).type !== 'range' && (el as HTMLInputElement).type !== 'checkbox'))
}

/** Listens while the component is there. Fields and open dialogs keep their keys. */
export function useKeys(keys: Keys) {
  function listen(e: KeyboardEvent) {
    if (e.ctrlKey || e.altKey || e.metaKey || e.defaultPrevented || typing(e.target)) return
    if (document.querySelector('[role=dialog]')) return
    const el = e.target as HTMLElement | null
    // A control that has the keyboard acts on Enter, blank and arrows itself.
    const onControl = el?.closest('button, a, [role=option], [role=listbox], input')
    if (onControl && (e.key === 'Enter' || e.key === ' ' || e.key.startsWith('Arrow'))) return
    const act = keys[e.key]
    if (!act) return
    e.preventDefault()
    act(e)
  }
  onMounted(() => window.addEventListener('keydown', listen))
  onBeforeUnmount(() => window.removeEventListener('keydown', listen))
}
