import { useLocalStorage } from '@vueuse/core'
import { ref } from 'vue'
import type { Settings } from '../api/client'
import { words } from '../lib/commandWords'

/** A command as it is written on the page. */
export type Command = { line: string; dir: string; env: string; user: string; against?: string }

/** The command on the page, and those from before by program: the last word of its path. */
export function useCommands() {
  const known = useLocalStorage<Record<string, Command>>('entelon-take-commands', {})
  const command = ref<Command>({ line: '', dir: '', env: '', user: '', ...Object.values(known.value).at(-1) })
  const programOf = (c: Command) => words(c.line)[0]?.split('/').at(-1) ?? ''
  function remember() {
    const name = programOf(command.value)
    const { [name]: _old, ...others } = known.value
    known.value = { ...others, [name]: { ...command.value } }
  }
  /** The command of the baseline; a program alone has the arguments of the other. */
  const against = (): string[] => {
    const other = words(command.value.against ?? '')
    return other.length === 1 ? [...other, ...words(command.value.line).slice(1)] : other
  }
  const settings = (): Settings => ({ command: words(command.value.line), dir: command.value.dir, env: words(command.value.env), user: command.value.user || undefined })
  return { known, command, programOf, remember, settings, against }
}
