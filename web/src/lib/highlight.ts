import type { GrammarState, HighlighterCore, LanguageRegistration } from '@shikijs/core'

/** A piece of a line of source with its colour, "" for the text's own. */
export type Piece = { text: string; colour: string }

type Grammar = () => Promise<{ default: LanguageRegistration[] }>
const grammars: Record<string, Grammar> = {
  asm: () => import('@shikijs/langs/asm'),
  c: () => import('@shikijs/langs/c'),
  cpp: () => import('@shikijs/langs/cpp'),
  erlang: () => import('@shikijs/langs/erlang'),
  go: () => import('@shikijs/langs/go'),
  java: () => import('@shikijs/langs/java'),
  javascript: () => import('@shikijs/langs/javascript'),
  lua: () => import('@shikijs/langs/lua'),
  perl: () => import('@shikijs/langs/perl'),
  php: () => import('@shikijs/langs/php'),
  python: () => import('@shikijs/langs/python'),
  ruby: () => import('@shikijs/langs/ruby'),
  rust: () => import('@shikijs/langs/rust'),
  typescript: () => import('@shikijs/langs/typescript'),
}
const endings: Record<string, string> = {
  s: 'asm', asm: 'asm', c: 'c', h: 'cpp', cc: 'cpp', cpp: 'cpp', cxx: 'cpp', hh: 'cpp', hpp: 'cpp', hxx: 'cpp', inl: 'cpp', erl: 'erlang', go: 'go', java: 'java', js: 'javascript', mjs: 'javascript', cjs: 'javascript',
  jsx: 'javascript', lua: 'lua', pl: 'perl', pm: 'perl', php: 'php', py: 'python', rb: 'ruby', rs: 'rust', ts: 'typescript', mts: 'typescript', tsx: 'typescript',
} // prettier-ignore

/** The language of a file by its name, "" where it is not known. */
export function languageOf(file: string): string {
  const name = file.split('/').at(-1) ?? ''
  return name.includes('.') ? (endings[name.split('.').at(-1)!.toLowerCase()] ?? '') : ''
}

// Longer lines and files are shown plain: nobody reads them, and colouring takes too long.
const maxLine = 2000
const maxFile = 20_000
// So many lines are coloured before the page may draw again.
const chunk = 60
const patience = 40 // ms that one line may take

let core: Promise<HighlighterCore> | undefined
const loaded = new Map<string, Promise<void>>()

async function highlighter(language: string): Promise<HighlighterCore> {
  core ??= Promise.all([import('@shikijs/core'), import('@shikijs/engine-javascript')]).then(([c, e]) =>
    c.createHighlighterCore({ themes: [c.createCssVariablesTheme({ name: 'ink', variablePrefix: '--source-' })], langs: [], engine: e.createJavaScriptRegexEngine({ forgiving: true }) }),
  )
  const h = await core
  if (!loaded.has(language)) loaded.set(language, grammars[language]().then((g) => h.loadLanguage(...g.default)))
  await loaded.get(language)
  return h
}

/**
 * Colours the lines of a file, some at a time so that the page stays alive, and hands them on
 * as they are done: the lines from the first on. It ends early when stop says so.
 */
export async function highlight(lines: string[], file: string, done: (from: number, pieces: Piece[][]) => void, stop: () => boolean) {
  const language = languageOf(file)
  if (!language || lines.length > maxFile) return
  const h = await highlighter(language)
  let state: GrammarState | undefined
  for (let from = 0; from < lines.length && !stop(); from += chunk) {
    const part = lines.slice(from, from + chunk).map((l) => (l.length > maxLine ? '' : l.replace(/\t/g, '    ')))
    const out = h.codeToTokens(part.join('\n'), { lang: language, theme: 'ink', grammarState: state, tokenizeMaxLineLength: maxLine, tokenizeTimeLimit: patience })
    state = out.grammarState
    done(
      from,
      part.map((text, i) => (lines[from + i].length > maxLine ? [] : (out.tokens[i] ?? [{ content: text, color: '' }]).map((t) => ({ text: t.content, colour: t.color === 'var(--source-foreground)' ? '' : (t.color ?? '') })))),
    )
    await new Promise((later) => requestAnimationFrame(later))
  }
}
