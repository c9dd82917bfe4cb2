import { type HotFunction, keptFunctions } from './functions'
import type { components } from './schema'

type Schemas = components['schemas']
export type About = Schemas['AboutOut']
export type Job = Schemas['JobOut']
export type Counts = Schemas['CountOut']
export type Process = Schemas['ProcessOut']
export type Settings = Partial<Schemas['Settings']>
export type Program = Schemas['ProgramOut']
export type Take = Schemas['TakeOut']
export type TakeDetail = Schemas['TakeDetail']
export type Measure = Schemas['MeasureOut']
/** The hot-function table: columns of equal length, the largest self cost first. */
export type Hot = Omit<Schemas['HotOut'], 'functions' | 'file' | 'line'> & { functions: HotFunction[] }
export type Flame = Schemas['FlameOut']
export type Found = Schemas['SearchOut']
export type FunctionRef = Schemas['FunctionRef']
export type FunctionCard = Schemas['FunctionOut']
export type Edge = Schemas['EdgeOut']
export type SourceLine = Schemas['SourceLine']
export type Remark = Schemas['RemarkOut']
export type ScopePart = Schemas['ScopePart']
export type ScopeRead = Schemas['ScopeOut']
export type PathSteps = Schemas['PathSteps']
export type PathRow = Schemas['PathRow']
export type Neighbours = Schemas['NeighboursOut']
export type Events = Schemas['EventsOut']
export type Event = Schemas['EventRowOut']
export type Lanes = Schemas['LanesOut']
export type Lane = Schemas['LaneOut']
export type LaneRow = Schemas['LaneRowOut']
export type LaneAt = Schemas['LaneAtOut']
export type LanePath = Schemas['LanePathOut']
export type Spans = Schemas['SpansOut']
export type Graph = Schemas['GraphOut']
export type Times = Schemas['TimesOut']
export type Me = Schemas['MeOut']
export type Person = Schemas['PersonOut']
export type Comparison = Schemas['CompareOut']
export type CompareRow = Schemas['CompareRow']
export type Ledger = Schemas['LedgerOut']
export type Workload = Schemas['WorkloadOut']
export type Workloads = Schemas['WorkloadsOut']
export type Suspect = Schemas['SuspectOut']
export type Estimate = Schemas['EstimateOut']
export type Mirror = Schemas['MirrorOut']
export type BesideLines = Schemas['CompareLines']
export type Over = Schemas['OverOut']
export type ComparisonQuery = { baseline: string; candidate: string; scale?: string; measure?: string; scope?: string }

/** What the server said when it did not do what it was asked. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly remedy: string,
  ) {
    super(message)
  }
}

type Query = Record<string, string | number | boolean | undefined | null>

function address(path: string, query?: Query): string {
  const words = new URLSearchParams()
  for (const [k, v] of Object.entries(query ?? {})) {
    if (v !== undefined && v !== null && v !== '' && v !== false) words.set(k, String(v))
  }
  const text = words.toString()
  return '/api/v1' + path + (text ? '?' + text : '')
}

async function failure(status: number, body: string): Promise<ApiError> {
  try {
    const e = JSON.parse(body) as Schemas['ErrorBody']
    if (e.error) return new ApiError(status, e.error, e.remedy ?? '')
  } catch {
    // Not this server's own words: a proxy, or nothing at all.
  }
  return new ApiError(status, `the server answered with status ${status}`, 'see whether it still runs')
}

// Where nobody needs to be signed in, being nobody is an answer.
const open = ['/sign-in', '/enter']
let nobody = () => {}
/** Says what to do when nobody is signed in any more. */
export function onNobody(what: () => void) {
  nobody = what
}

async function ask<T>(method: string, path: string, query?: Query, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response
  try {
    response = await fetch(address(path, query), {
      method,
      signal,
      headers: body === undefined ? undefined : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e
    throw new ApiError(0, 'the server does not answer', 'see whether it still runs; nothing was changed')
  }
  if (!response.ok) {
    const e = await failure(response.status, await response.text())
    if (response.status === 401 && !open.includes(path)) nobody()
    throw e
  }
  return (response.status === 204 ? undefined : await response.json()) as T
}

/** Where a file of what is shown is. */
export const compareExportAddress = (file: string, query: Query) => address(`/compare/${file}`, query)
export const exportAddress = (key: string, file: string, query: Query) => address(`/takes/${key}/${file}`, query)

const withFunctions = (hot: Schemas['HotOut']): Hot => ({ ...hot, functions: hot.functions.map((f, i) => ({ ...f, file: hot.file[i], line: hot.line[i] })) })

/** The part of a take that counts, what is folded away in it, and which measure of it. */
export type Range = { scope?: string; fold?: string; group?: string; merge?: boolean; through?: string; measure?: string }

export const api = {
  about: () => ask<About>('GET', '/about'),
  programs: () => ask<Schemas['ProgramsOut']>('GET', '/programs'),
  takes: (q: { search?: string; program?: string; workload?: string; series?: string; sort?: string; descending?: boolean; limit?: number; offset?: number }) =>
    ask<Schemas['TakesOut']>('GET', '/takes', q),
  take: (key: string) => ask<TakeDetail>('GET', `/takes/${key}`),
  setNote: (key: string, note: string) => ask<Take>('PATCH', `/takes/${key}`, undefined, { note }),
  setPinned: (key: string, pinned: boolean) => ask<Take>('PATCH', `/takes/${key}`, undefined, { pinned }),
  removeTake: (key: string) => ask<void>('DELETE', `/takes/${key}`),
  fileAddress: (key: string) => `/api/v1/takes/${key}/file`,
  hot: async (key: string, range: Range, signal?: AbortSignal): Promise<Hot> => {
    const [hot, ref] = await Promise.all([
      ask<Schemas['HotOut']>('GET', `/takes/${key}/hot`, { ...range, bare: true }, undefined, signal),
      keptFunctions(`${key} ${range.group ?? ''}`, () => ask<Schemas['FunctionsOut']>('GET', `/takes/${key}/functions`, { group: range.group })),
    ])
    if (ref) return { ...hot, functions: hot.id.map(ref) }
    // There are too many functions to know all of them beforehand.
    return withFunctions(await ask<Schemas['HotOut']>('GET', `/takes/${key}/hot`, range, undefined, signal))
  },
  /** The same of a take that still grows, whose functions get other numbers. */
  hotNow: async (key: string): Promise<Hot> => {
    return withFunctions(await ask<Schemas['HotOut']>('GET', `/takes/${key}/hot`))
  },
  flame: (key: string, q: Range & { root?: number; order?: string; pixels?: number }, signal?: AbortSignal) =>
    ask<Flame>('GET', `/takes/${key}/flame`, q, undefined, signal),
  search: (key: string, q: Range & { text: string; root?: number }, signal?: AbortSignal) => ask<Found>('GET', `/takes/${key}/search`, q, undefined, signal),
  card: (key: string, q: Range & { name: string }, signal?: AbortSignal) => ask<FunctionCard>('GET', `/takes/${key}/function`, q, undefined, signal),
  lanes: (key: string, q: { scope?: string; begin: number; end: number; parts: number; first: number; count: number; open?: string; bare?: boolean }, signal?: AbortSignal) => ask<Lanes>('GET', `/takes/${key}/lanes`, q, undefined, signal),
  lanePath: (key: string, q: { thread: number; begin: number; end: number }) => ask<LanePath>('GET', `/takes/${key}/lanes/path`, q),
  spans: (key: string, q: { scope?: string; name?: string; dots?: number; bins?: number; begin?: number; end?: number }, signal?: AbortSignal) => ask<Spans>('GET', `/takes/${key}/spans`, q, undefined, signal),
  spanBlame: (key: string, q: { scope?: string; name: string; permille: number; longer?: number; shorter?: number }, signal?: AbortSignal) => ask<Schemas['SpanBlameOut']>('GET', `/takes/${key}/spans/blame`, q, undefined, signal),
  spanContrast: (key: string, q: { scope?: string; name: string; permille?: number; longer?: number }, signal?: AbortSignal) => ask<Schemas['SpanContrastOut']>('GET', `/takes/${key}/spans/contrast`, q, undefined, signal),
  laneAt: (key: string, q: { thread: number; at: number }) => ask<LaneAt>('GET', `/takes/${key}/lanes/at`, q),
  events: (key: string, q: Range & { kind?: string; sort?: string; column?: string; bins?: number }) => ask<Events>('GET', `/takes/${key}/events`, q),
  times: (key: string, bins: number, measure?: string) => ask<Times>('GET', `/takes/${key}/times`, { bins, measure }),
  lines: (key: string, q: Range & { name: string }) => ask<Schemas['LinesOut']>('GET', `/takes/${key}/lines`, q),
  notes: (key: string) => ask<Schemas['RemarksOut']>('GET', `/takes/${key}/notes`),
  addNote: (key: string, fn: string, text: string) => ask<Remark>('POST', `/takes/${key}/notes`, undefined, { function: fn, text }),
  changeNote: (id: number, text: string) => ask<Remark>('PATCH', `/notes/${id}`, undefined, { function: '', text }),
  removeNote: (id: number) => ask<void>('DELETE', `/notes/${id}`),
  pins: (program: string) => ask<Schemas['PinsOut']>('GET', `/programs/${encodeURIComponent(program)}/pins`),
  sources: (program: string) => ask<Schemas['SourceRules']>('GET', `/programs/${encodeURIComponent(program)}/sources`),
  setSources: (program: string, rules: Schemas['SourceRule'][]) => ask<Schemas['SourceRules']>('PUT', `/programs/${encodeURIComponent(program)}/sources`, undefined, { rules }),
  threads: (key: string, q: Range) => ask<Schemas['ThreadsOut']>('GET', `/takes/${key}/threads`, q),
  builds: (key: string, q: { scope?: string; measure?: string; name: string }, signal?: AbortSignal) => ask<Schemas['BuildsOut']>('GET', `/takes/${key}/builds`, q, undefined, signal),
  setPin: (program: string, fn: string, on: boolean) => ask<Schemas['PinsOut']>('POST', `/programs/${encodeURIComponent(program)}/pins`, undefined, { function: fn, on }),
  scope: (key: string, scope: string) => ask<ScopeRead>('GET', `/takes/${key}/scope`, { scope }),
  kept: (key: string, q: Range, signal?: AbortSignal) => ask<Schemas['KeptOut']>('GET', `/takes/${key}/kept`, q, undefined, signal),
  complete: (key: string, text: string, at: number) => ask<Schemas['CompleteOut']>('GET', `/takes/${key}/complete`, { text, at }),
  paths: (key: string, q: Range & { start?: string; node?: number; path?: string; heaviest?: boolean }) => ask<Schemas['PathsOut']>('GET', `/takes/${key}/paths`, q),
  neighbours: (key: string, q: Range & { name: string; levels?: number; most?: number }) => ask<Neighbours>('GET', `/takes/${key}/neighbours`, q),
  graph: (key: string, q: Range & { most?: number; least_permille?: number }) => ask<Graph>('GET', `/takes/${key}/graph`, q),
  measures: () => ask<Schemas['MeasuresOut']>('GET', '/measures'),
  ledger: (program: string, q: { scale?: string; measure?: string; workload?: string }) => ask<Ledger>('GET', `/programs/${encodeURIComponent(program)}/ledger`, q),
  compare: (q: ComparisonQuery, signal?: AbortSignal) => ask<Comparison>('GET', '/compare', q, undefined, signal),
  compareLines: (q: ComparisonQuery & { name: string }, signal?: AbortSignal) => ask<BesideLines>('GET', '/compare/lines', q, undefined, signal),
  workloads: (program: string) => ask<Workloads>('GET', `/programs/${encodeURIComponent(program)}/workloads`),
  nameWorkload: (program: string, id: number, name: string) => ask<Workloads>('PATCH', `/programs/${encodeURIComponent(program)}/workloads/${id}`, undefined, { name }),
  mergeWorkloads: (program: string, from: number[], into: number) => ask<Workloads>('POST', `/programs/${encodeURIComponent(program)}/workloads/merge`, undefined, { from, into }),
  moveTakes: (program: string, takes: string[], to: { into?: number; name?: string }) => ask<Workloads>('POST', `/programs/${encodeURIComponent(program)}/workloads/move`, undefined, { takes, into: to.into ?? 0, name: to.name ?? '' }),
  undoWorkloads: (program: string) => ask<Workloads>('POST', `/programs/${encodeURIComponent(program)}/workloads/undo`, undefined, {}),
  matches: (program: string) => ask<Schemas['MatchesOut']>('GET', `/programs/${encodeURIComponent(program)}/matches`),
  setMatch: (program: string, baseline: string, candidate: string, how: '' | 'together' | 'apart') =>
    ask<Schemas['MatchesOut']>('POST', `/programs/${encodeURIComponent(program)}/matches`, undefined, { baseline, candidate, how }),
  over: (program: string, q: { name: string; scale?: string; measure?: string; workload?: string }) => ask<Over>('GET', `/programs/${encodeURIComponent(program)}/function`, q),
  settleNote: (id: number, settled: boolean) => ask<Remark>('PUT', `/notes/${id}/settled`, undefined, { settled }),
  mirror: (q: ComparisonQuery & { pixels?: number }, signal?: AbortSignal) => ask<Mirror>('GET', '/compare/mirror', q, undefined, signal),
  me: () => ask<Me>('GET', '/me'),
  changeMe: (change: Schemas['ChangeMeIn']) => ask<Me>('PATCH', '/me', undefined, change),
  enter: (link: string) => ask<Me>('POST', '/enter', undefined, { link }),
  signIn: (name: string, password: string) => ask<Me>('POST', '/sign-in', undefined, { name, password }),
  signOut: () => ask<void>('POST', '/sign-out'),
  tokens: () => ask<Schemas['TokensOut']>('GET', '/me/tokens'),
  addToken: (name: string, role: string) => ask<Schemas['NewTokenOut']>('POST', '/me/tokens', undefined, { name, role }),
  removeToken: (id: number) => ask<void>('DELETE', `/me/tokens/${id}`),
  people: () => ask<Schemas['PeopleOut']>('GET', '/people'),
  addPerson: (name: string, role: string) => ask<Schemas['PersonLinkOut']>('POST', '/people', undefined, { name, role, owner: false }),
  changePerson: (id: number, change: { role?: string; owner?: boolean; disabled?: boolean }) => ask<Person>('PATCH', `/people/${id}`, undefined, change),
  linkFor: (id: number) => ask<Schemas['PersonLinkOut']>('POST', `/people/${id}/link`),
  audit: (limit: number) => ask<Schemas['AuditOut']>('GET', '/audit', { limit }),
  runningJobs: () => ask<Schemas['JobsOut']>('GET', '/jobs', { running: true }),
  job: (id: string) => ask<Job>('GET', `/jobs/${id}`),
  addJob: (job: { collector?: string; settings?: Settings; again?: string; repeat?: number; against?: string[]; until?: string }) => ask<Job>('POST', '/jobs', undefined, job),
  stopJob: (id: string) => ask<Job>('POST', `/jobs/${id}/stop`),
  count: (q: Omit<Schemas['CountIn'], 'settings' | 'collector'> & { settings?: Settings; collector?: string }) => ask<Schemas['CountOut']>('POST', '/counts', undefined, q),
  addCollector: (name: string) => ask<Schemas['CollectorLinkOut']>('POST', '/collectors', undefined, { name }),
  removeCollector: (name: string) => ask<void>('DELETE', `/collectors/${encodeURIComponent(name)}`),
  collectors: () => ask<Schemas['CollectorsOut']>('GET', '/collectors'),
  measurables: (collector: string, begun: string, pid?: number) => ask<Schemas['MeasurablesOut']>('GET', `/collectors/${encodeURIComponent(collector)}/measures?begun=${encodeURIComponent(begun)}${pid ? `&pid=${pid}` : ''}`),
  groups: (collector: string) => ask<Schemas['GroupsOut']>('GET', `/collectors/${encodeURIComponent(collector)}/groups`),
  processes: (collector: string) => ask<Schemas['ProcessesOut']>('GET', `/collectors/${encodeURIComponent(collector)}/processes`),
}

/** Sends a file, with its progress from 0 to 1; `stop` breaks it off. */
export function upload(file: File, progress: (share: number) => void): { done: Promise<Schemas['AddedOut']>; stop: () => void } {
  const request = new XMLHttpRequest()
  const done = new Promise<Schemas['AddedOut']>((resolve, reject) => {
    request.open('POST', address('/takes', { name: file.name }))
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.upload.onprogress = (e) => e.lengthComputable && progress(e.loaded / e.total)
    request.onload = async () => {
      if (request.status >= 300) reject(await failure(request.status, request.responseText))
      else resolve(JSON.parse(request.responseText))
    }
    request.onerror = () => reject(new ApiError(0, `${file.name}: the upload broke off`, 'nothing was kept; send it again'))
    request.onabort = () => reject(new ApiError(0, `${file.name}: the upload was cancelled`, 'nothing was kept'))
    request.send(file)
  })
  return { done, stop: () => request.abort() }
}
