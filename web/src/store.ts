import { create } from 'zustand'
import { api, bringIn, bringPicture, words, type Fault, type Job, type Settings, type State } from './api/client'
import { loadGeometry, loadTable } from './scene/geometry'
import { Piece } from './scene/pieces'
import type { Move } from './scene/hand'
import { sheetBy } from './scene/sheets'
import { islandsOf, paint, type Keys } from './scene/states'

export const STAGES = ['Gather', 'Inspect', 'Mend', 'Even', 'Arrange', 'Prove', 'Deliver'] as const
export const UNITS = { m: 1, cm: 0.01, mm: 0.001, in: 0.0254, ft: 0.3048 }
export type Unit = keyof typeof UNITS
export type Stage = (typeof STAGES)[number]
export type Kind =
  | 'pack'
  | 'explain'
  | 'mend'
  | 'channel'
  | 'deliver'
  | 'settings'
  | 'twins'
  | 'weld'
  | 'alike'
  | 'stack'
  | 'bleed'
  | 'bake'
  | 'replace'

/** What limits the layout, and what an action would gain, as measured by trying it. */
export interface Explanation {
  layout: number
  sheet: number
  long: [number, number][]
  large: [number, number][]
  hints: { kind: string; islands: [number, number][]; gain: number; value: number | string | null }[]
}

/** A test bake of a sheet: figures of each tile; the maps are fetched when they are shown. */
export interface Baked {
  job: number
  layout: number
  sheet: number
  maps: string[]
  pairs: string[]
  tiles: {
    tile: number
    px: number
    twice: number
    missed: number
    missed_at: [number, number][]
    seams: Record<string, [mean: number, most: number]>
  }[]
}

/** What a newer version of a file would change. */
export interface Newer {
  /** The job that compared it. */
  job: number
  file: number
  name: string
  same: string[]
  new: string[]
  gone: string[]
  changed: { name: string; same: number; changed: number; new: number; gone: number }[]
}

/** What a run over several sheets did. */
export interface Packed {
  name: string
  recipe: string
  was: number | null
  coverage: number
  density: number | null
  seconds: number
}

interface Quilt {
  state: State | null
  faults: Fault[]
  job: Job | null
  explanation: Explanation | null
  message: string
  note: string
  stage: Stage
  /** The sheet that the table shows. */
  sheet: number
  /** What the last run over several sheets did. */
  summary: Packed[]
  /** Bits of `ODD` that the views mark on triangles. */
  odd: number
  /** Keys of objects ("file/number") and of single islands ("file:number"). */
  selection: Keys
  /** Whether a click on a picture picks whole objects or single islands. */
  picks: 'objects' | 'islands'
  pieces: Piece[]
  /** Unit of the files that do not say. */
  unit: Unit
  /** Gaps in px that a field shows before they are set. */
  preview: { padding_px?: number; margin_px?: number }
  /** Counts up whenever the views have to draw again. */
  drawn: number
  /** Counts up whenever the views have to show everything, or what is selected. */
  fitted: number
  shown: number
  open: (id: number) => Promise<void>
  close: () => void
  setStage: (stage: Stage) => void
  setPicks: (picks: 'objects' | 'islands') => void
  setSheet: (sheet: number) => void
  setOdd: (bits: number) => void
  /** Move the selection by hand: one undo step; by one move, or each island by its own. */
  move: (move: Move | Record<string, Move>, label: string) => Promise<void>
  putPicture: (tile: number, file: File) => Promise<void>
  setPreview: (preview: { padding_px?: number; margin_px?: number }) => void
  say: (message: string) => void
  select: (keys: Iterable<string>, add?: boolean, show?: boolean) => void
  change: (change: { settings?: Partial<Settings>; left_out?: string[]; layout?: number }) => Promise<void>
  discard: (layout: number, change?: { discarded?: boolean; name?: string }) => Promise<void>
  step: (direction: 'undo' | 'redo') => Promise<void>
  start: (kind: Kind, params?: Record<string, unknown>) => Promise<void>
  baked: Baked | null
  /** The baked map that the views show in place of the tiles' pictures. */
  shownMap: string
  showMap: (kind: string) => void
  /** What a newer version of a file would change, once it was compared. */
  newer: Newer | null
  dropNewer: () => void
  compareNewer: (file: number, files: { path: string; file: File }[]) => Promise<void>
  upload: (files: { path: string; file: File }[]) => Promise<void>
  setUnit: (unit: Unit) => void
  stop: () => Promise<void>
  fit: () => void
  show: () => void
}

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
const OVER = ['done', 'failed', 'stopped', 'interrupted']

export const useQuilt = create<Quilt>((set, get) => {
  const at = () => ({ params: { path: { project_id: get().state!.id } } })

  async function show(state: State): Promise<void> {
    const before = get()
    const channel = state.settings.channel_in ?? 0
    const welded = (s: State | null, file: number) => s?.settings.welded?.includes(file) ?? false
    const same = (file: number) =>
      before.state?.settings.channel_in === state.settings.channel_in &&
      welded(before.state, file) === welded(state, file)
    const kept = new Map(before.pieces.map((p) => [p.file, p]))
    const pieces: Piece[] = []
    let first = 0
    for (const file of state.files) {
      const old = same(file.id) ? kept.get(file.id) : undefined
      const piece = old ?? new Piece(file.id, await loadGeometry(file.id, channel, welded(state, file.id)), first)
      if (old) kept.delete(file.id)
      first += piece.data.header.objects.length
      const table = state.layout === null ? null : await loadTable(`/api/layouts/${state.layout}/files/${file.id}`)
      if (table) piece.setTable(table)
      pieces.push(piece)
    }
    const { data: faults } = await api.GET('/api/projects/{project_id}/faults', {
      params: { path: { project_id: state.id } },
    })
    const sheet = sheetBy(state.settings, before.sheet).id
    // A bake belongs to the layout that was baked.
    const baked = before.baked?.layout === state.layout ? before.baked : null
    const shownMap = baked ? before.shownMap : ''
    set({ state, pieces, faults: (faults ?? []) as Fault[], preview: {}, sheet, baked, shownMap })
    repaint()
    for (const p of kept.values()) p.dispose()
    if (pieces.length !== before.pieces.length) get().fit()
  }

  function repaint(): void {
    const { pieces, selection, state, faults, sheet } = get()
    if (state) paint(pieces, state, faults, selection, sheet)
    set({ drawn: get().drawn + 1 })
  }

  async function reload(): Promise<void> {
    if (!get().state) return
    const { data } = await api.GET('/api/projects/{project_id}', at())
    if (data) await show(data)
  }

  async function draft(job: Job): Promise<void> {
    for (const p of get().pieces) {
      const table = await loadTable(`/api/jobs/${job.id}/draft/${p.file}`)
      if (table) p.setTable(table)
    }
    repaint()
  }

  async function follow(job: Job): Promise<void> {
    const project = get().state?.id
    let best = 0
    set(job.kind === 'pack' ? { job, note: '', explanation: null, summary: [] } : { job, note: '' })
    let on = 0
    while (!OVER.includes(job.state)) {
      await pause(job.kind === 'pack' ? 200 : 120)
      const { data } = await api.GET('/api/jobs/{job_id}', { params: { path: { job_id: job.id } } }).catch(() => ({
        data: undefined,
      }))
      if (get().state?.id !== project) return
      if (!data) continue
      job = data
      set({ job })
      // Several sheets are packed one after the other; the table follows.
      const now = Number(job.progress.sheet ?? 0)
      if (job.kind === 'pack' && now && now !== on) {
        on = now
        best = 0
        get().setSheet(now)
      }
      const coverage = Number(job.progress.coverage ?? 0)
      if (job.kind === 'pack' && coverage > best) {
        best = coverage
        await draft(job)
      }
    }
    set({ job: null, message: job.error })
    await reload()
    if (job.state === 'done') finished(job)
  }

  function finished(job: Job): void {
    if (job.kind === 'deliver') {
      const link = document.createElement('a')
      link.href = `/api/jobs/${job.id}/output`
      link.click()
    }
    if (job.kind === 'pack') {
      const summary = (job.result.summary ?? []) as Packed[]
      set({ summary, stage: summary.length > 1 ? 'Arrange' : 'Prove' })
    }
    if (job.kind === 'import') set({ stage: 'Inspect' })
    if (job.kind === 'compare') set({ newer: { ...(job.result as unknown as Newer), job: job.id } })
    if (job.kind === 'replace') set({ newer: null })
    if (job.kind === 'bake') {
      const baked = { ...(job.result as unknown as Baked), job: job.id }
      set({ baked, shownMap: baked.maps.includes('occlusion') ? 'occlusion' : (baked.maps[0] ?? '') })
    }
    if (job.kind === 'alike') {
      const found = job.result.islands as Record<string, number[]>
      get().select(
        Object.entries(found).flatMap(([file, islands]) => islands.map((i) => `${file}:${i}`)),
        false,
        true,
      )
    }
    if (job.kind === 'explain') {
      const found = job.result as unknown as Omit<Explanation, 'layout'>
      set({ explanation: { ...found, layout: get().state?.layout ?? 0 } })
    }
    if (['mend', 'twins', 'weld', 'stack'].includes(job.kind)) {
      const n = Number(job.result.changed ?? 0)
      set({ note: n ? `${n} ${n === 1 ? 'island' : 'islands'} changed.` : 'Nothing had to be changed.' })
    }
  }

  async function write(answer: Promise<{ data?: State; error?: unknown }>): Promise<void> {
    const { data, error } = await answer.catch(() => ({ data: undefined, error: undefined }))
    set({ message: data ? '' : words(error), note: '' })
    if (data) await show(data)
    else await reload()
  }

  // Changes go out one after the other, each on the snapshot that the last one left: leaving a field by
  // pressing a button is two changes at once.
  let last: Promise<void> = Promise.resolve()
  const queue = (work: () => Promise<void>): Promise<void> => {
    last = last.then(work, work)
    return last
  }

  return {
    state: null,
    faults: [],
    job: null,
    explanation: null,
    message: '',
    note: '',
    stage: 'Gather',
    sheet: 1,
    summary: [],
    odd: 1,
    selection: new Set(),
    picks: localStorage.getItem('picks') === 'islands' ? 'islands' : 'objects',
    pieces: [],
    unit: 'm',
    preview: {},
    drawn: 0,
    fitted: 0,
    shown: 0,
    async open(id) {
      const { data, error } = await api.GET('/api/projects/{project_id}', { params: { path: { project_id: id } } })
      if (!data) return set({ message: words(error) })
      set({
        selection: new Set(),
        message: '',
        note: '',
        summary: [],
        explanation: null,
        stage: data.files.length ? (data.packed ? 'Prove' : 'Inspect') : 'Gather',
      })
      await show(data)
      if (data.job !== null) {
        const running = await api.GET('/api/jobs/{job_id}', { params: { path: { job_id: data.job } } })
        if (running.data) void follow(running.data)
      }
    },
    close() {
      for (const p of get().pieces) p.dispose()
      set({ state: null, pieces: [], faults: [], job: null, message: '', note: '' })
    },
    // A baked map is looked at where it was baked.
    setStage: (stage) => set({ stage, note: '', ...(stage === 'Prove' ? {} : { shownMap: '' }) }),
    setPicks(picks) {
      localStorage.setItem('picks', picks)
      set({ picks })
    },
    setSheet(sheet) {
      set({ sheet })
      repaint()
    },
    setOdd(odd) {
      if (odd !== get().odd) set({ odd })
    },
    async move(move, label) {
      const { state, selection } = get()
      if (!state) return
      const one = typeof move.angle === 'number' ? (move as Move) : null
      const each = one ? null : (move as Record<string, Move>)
      const row = (m: Move) => [m.angle, m.mirror, m.scale, m.u, m.v]
      const rows: Record<string, number[][]> = {}
      for (const [file, islands] of Object.entries(islandsOf(state, selection)))
        for (const i of islands) {
          const m = one ?? each?.[`${file}:${i}`]
          if (m) (rows[file] ??= []).push([i, ...row(m)])
        }
      await get().start('mend', { action: 'move', rows, label })
    },
    async putPicture(tile, file) {
      const { state, sheet } = get()
      if (!state) return
      try {
        const { sha, name } = await bringPicture(state.id, file)
        const pictures = { ...get().state?.settings.pictures, [`${sheet}:${tile}`]: { sha, name } }
        await get().change({ settings: { pictures } })
      } catch (e) {
        set({ message: (e as Error).message })
      }
    },
    setPreview: (preview) => set({ preview: { ...get().preview, ...preview } }),
    setUnit: (unit) => set({ unit }),
    say: (message) => set({ message }),
    select(keys, add = false, show = false) {
      const selection = new Set(add ? get().selection : [])
      for (const k of keys)
        if (add && selection.has(k)) selection.delete(k)
        else selection.add(k)
      set({ selection })
      repaint()
      if (show) get().show()
    },
    change: (change) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null) return
        const settings = change.settings && { ...state.settings, ...change.settings }
        // What lies with what is measured again, by a job.
        const measured = (['sheets', 'sheet_of', 'twins'] as const).some((k) => change.settings && k in change.settings)
        if (measured && state.layout !== null) {
          const body = { kind: 'settings', base: state.snapshot, params: { settings } }
          const { data, error } = await api.POST('/api/projects/{project_id}/jobs', { ...at(), body })
          if (data) await follow(data)
          else set({ message: words(error) })
          return
        }
        const body = { base: state.snapshot, ...change, settings }
        await write(api.POST('/api/projects/{project_id}/change', { ...at(), body }))
      }),
    discard: (layout, change = {}) =>
      queue(async () => {
        const base = get().state?.snapshot
        if (base == null) return
        const body = { base, layout, discarded: true, ...change }
        await write(api.POST('/api/projects/{project_id}/tries/discard', { ...at(), body }))
      }),
    step: (direction) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null || !state[direction]) return
        const body = { base: state.snapshot }
        await write(
          direction === 'undo'
            ? api.POST('/api/projects/{project_id}/undo', { ...at(), body })
            : api.POST('/api/projects/{project_id}/redo', { ...at(), body }),
        )
      }),
    start: (kind, params = {}) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null) return
        const body = { kind, base: state.snapshot, params }
        const { data, error } = await api.POST('/api/projects/{project_id}/jobs', { ...at(), body })
        // Following takes as long as the job: the queue goes on meanwhile.
        if (data) void follow(data)
        else set({ message: words(error) })
      }),
    baked: null,
    shownMap: '',
    showMap: (shownMap) => set({ shownMap }),
    newer: null,
    dropNewer: () => set({ newer: null }),
    async compareNewer(file, files) {
      const project = get().state
      if (!project || !files.length) return
      try {
        await follow(await bringIn(project.id, files, 1, file))
      } catch (e) {
        set({ message: (e as Error).message })
      }
    },
    async upload(files) {
      // Whoever is quick drops files before the project is there.
      for (let k = 0; k < 100 && !get().state; k++) await pause(100)
      const project = get().state
      if (!project) return set({ message: 'The project is still being loaded. Drop the files again in a moment.' })
      if (!files.length) return
      set({ message: '' })
      try {
        await follow(await bringIn(project.id, files, UNITS[get().unit]))
      } catch (e) {
        set({ message: (e as Error).message })
      }
    },
    async stop() {
      const { job } = get()
      if (job) await api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: job.id } } })
    },
    fit: () => set({ fitted: get().fitted + 1 }),
    show: () => set({ shown: get().shown + 1 }),
  }
})

/** The selected islands for each file, as repairs take them; null where nothing is selected: all. */
export function selectedIslands(): Record<string, number[]> | null {
  const { state, selection } = useQuilt.getState()
  return state && selection.size ? islandsOf(state, selection) : null
}
