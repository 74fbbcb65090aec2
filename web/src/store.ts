import { create } from 'zustand'
import { api, bringIn, words, type Job, type Settings, type State } from './api/client'
import { loadGeometry, loadTable } from './scene/geometry'
import { Piece } from './scene/pieces'

export const STAGES = ['Gather', 'Inspect', 'Even and arrange', 'Prove', 'Deliver'] as const
export type Stage = (typeof STAGES)[number]

interface Quilt {
  state: State | null
  job: Job | null
  message: string
  stage: Stage
  selection: Set<string>
  pieces: Piece[]
  /** Counts up whenever the views have to draw again. */
  drawn: number
  /** Counts up whenever the views have to show everything again. */
  fitted: number
  open: (id: number) => Promise<void>
  close: () => void
  setStage: (stage: Stage) => void
  say: (message: string) => void
  select: (keys: Iterable<string>, add?: boolean) => void
  change: (change: { settings?: Partial<Settings>; left_out?: string[]; layout?: number }) => Promise<void>
  step: (direction: 'undo' | 'redo') => Promise<void>
  start: (kind: 'pack' | 'deliver') => Promise<void>
  upload: (files: { path: string; file: File }[], unit: number) => Promise<void>
  stop: () => Promise<void>
  fit: () => void
}

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))

export const useQuilt = create<Quilt>((set, get) => {
  async function show(state: State): Promise<void> {
    const before = get().pieces
    const kept = new Map(before.map((p) => [p.file, p]))
    const pieces: Piece[] = []
    let first = 0
    for (const file of state.files) {
      const piece = kept.get(file.id) ?? new Piece(file.id, await loadGeometry(file.id), first)
      kept.delete(file.id)
      first += piece.data.header.objects.length
      const table = state.layout === null ? null : await loadTable(`/api/layouts/${state.layout}/files/${file.id}`)
      if (table) piece.setTable(table)
      pieces.push(piece)
    }
    set({ state, pieces, drawn: get().drawn + 1 })
    marks()
    for (const p of kept.values()) p.dispose()
    if (pieces.length !== before.length) get().fit()
  }

  function marks(): void {
    const { pieces, selection, state } = get()
    const left = new Set(state?.objects.filter((o) => o.left_out).map((o) => o.key))
    for (const p of pieces)
      p.setMarks((n) => (selection.has(`${p.file}/${n}`) ? 255 : left.has(`${p.file}/${n}`) ? 128 : 0))
    set({ drawn: get().drawn + 1 })
  }

  async function reload(): Promise<void> {
    const id = get().state?.id
    if (id === undefined) return
    const { data } = await api.GET('/api/projects/{project_id}', { params: { path: { project_id: id } } })
    if (data) await show(data)
  }

  async function follow(job: Job): Promise<void> {
    const project = get().state?.id
    let best = 0
    set({ job })
    while (!['done', 'failed', 'stopped', 'interrupted'].includes(job.state)) {
      await pause(250)
      const { data } = await api.GET('/api/jobs/{job_id}', { params: { path: { job_id: job.id } } }).catch(() => ({
        data: undefined,
      }))
      if (get().state?.id !== project) return
      if (!data) continue
      job = data
      set({ job })
      const coverage = Number(job.progress.coverage ?? 0)
      if (job.kind === 'pack' && coverage > best) {
        best = coverage
        for (const p of get().pieces) {
          const table = await loadTable(`/api/jobs/${job.id}/draft/${p.file}`)
          if (table) p.setTable(table)
        }
        set({ drawn: get().drawn + 1 })
      }
    }
    set({ job: null, message: job.error })
    await reload()
    if (job.kind === 'deliver' && job.state === 'done') {
      const link = document.createElement('a')
      link.href = `/api/jobs/${job.id}/output`
      link.click()
    }
    if (job.kind === 'pack' && job.state === 'done') set({ stage: 'Prove' })
    if (job.kind === 'import' && job.state === 'done') set({ stage: 'Inspect' })
  }

  async function write(answer: Promise<{ data?: State; error?: unknown }>): Promise<void> {
    const { data, error } = await answer.catch(() => ({ data: undefined, error: undefined }))
    set({ message: data ? '' : words(error) })
    if (data) await show(data)
    else await reload()
  }

  const at = () => ({ params: { path: { project_id: get().state!.id } } })

  // Changes go out one after the other, each on the snapshot that the last one left: leaving a field by
  // pressing a button is two changes at once.
  let last: Promise<void> = Promise.resolve()
  const queue = (work: () => Promise<void>): Promise<void> => {
    last = last.then(work, work)
    return last
  }

  return {
    state: null,
    job: null,
    message: '',
    stage: 'Gather',
    selection: new Set(),
    pieces: [],
    drawn: 0,
    fitted: 0,
    async open(id) {
      const { data, error } = await api.GET('/api/projects/{project_id}', { params: { path: { project_id: id } } })
      if (!data) return set({ message: words(error) })
      set({
        selection: new Set(),
        message: '',
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
      set({ state: null, pieces: [], job: null, message: '' })
    },
    setStage: (stage) => set({ stage }),
    say: (message) => set({ message }),
    select(keys, add = false) {
      const selection = new Set(add ? get().selection : [])
      for (const k of keys)
        if (add && selection.has(k)) selection.delete(k)
        else selection.add(k)
      set({ selection })
      marks()
    },
    change: (change) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null) return
        const settings = change.settings && { ...state.settings, ...change.settings }
        const body = { base: state.snapshot, ...change, settings }
        await write(api.POST('/api/projects/{project_id}/change', { ...at(), body }))
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
    start: (kind) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null) return
        const body = { kind, base: state.snapshot }
        const { data, error } = await api.POST('/api/projects/{project_id}/jobs', { ...at(), body })
        // Following takes as long as the job: the queue goes on meanwhile.
        if (data) void follow(data)
        else set({ message: words(error) })
      }),
    async upload(files, unit) {
      const project = get().state
      if (!project || !files.length) return
      set({ message: '' })
      try {
        await follow(await bringIn(project.id, files, unit))
      } catch (e) {
        set({ message: (e as Error).message })
      }
    },
    async stop() {
      const { job } = get()
      if (job) await api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: job.id } } })
    },
    fit: () => set({ fitted: get().fitted + 1 }),
  }
})
