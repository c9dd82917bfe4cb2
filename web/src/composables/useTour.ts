import { useLocalStorage } from '@vueuse/core'
import { computed } from 'vue'
import type { RouteLocationNormalizedLoaded } from 'vue-router'

/** One thing to do, and how it is seen to be done. */
export type Step = { name: string; say: string; done: (at: RouteLocationNormalizedLoaded) => boolean }

/** The program of the demo that the tour goes through. */
export const toured = 'engraved'

export const steps: Step[] = [
  {
    name: 'Notice',
    say: 'Something got slower. In the list of programs, open the ledger of engraved: its builds stand side by side, and a mark shows where it regressed.',
    done: (at) => at.name === 'ledger' && at.params.name === toured,
  },
  {
    name: 'Find',
    say: 'Build 3.5.0 costs 62 % more for each run, and the interval says how sure that is. Ask “why?” in its column.',
    done: (at) => at.name === 'compare',
  },
  {
    name: 'Compare',
    say: 'On the left are the suspects, ranked by how much of the difference each explains; the first is in focus. Both flames share one scale, so whatever is not symmetric differs. Press 5 to see which lines got costlier.',
    done: (at) => at.name === 'compare' && at.query.lens === 'lines',
  },
  {
    name: 'Decide',
    say: 'Open the slower build from the card (“In 3.5.0”): the focus comes along. Pin the function with p, and it stays at the top of every list and in the ledger; or write a note with n.',
    done: (at) => at.name === 'take' && !!at.query.focus,
  },
]

// -1: not begun, the number of steps: through or declined.
const at = useLocalStorage('entelon-tour', -1)
const offered = useLocalStorage('entelon-tour-offered', false)

/** The tour of the demo: where one is in it. It is offered once, and can be begun again. */
export function useTour() {
  return {
    at,
    offered,
    step: computed(() => (at.value >= 0 && at.value < steps.length ? steps[at.value] : undefined)),
    begin: () => ((at.value = 0), (offered.value = true)),
    end: () => ((at.value = steps.length), (offered.value = true)),
  }
}
