import type { StoreApi } from 'zustand'
import { api, GONE, type Job } from '../api/client'
import { loadTable } from '../scene/geometry'
import { ended } from './ended'
import type { Proposal, Quilt } from './types'

export const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
const download = (href: string) => Object.assign(document.createElement('a'), { href }).click()
const OVER = ['done', 'failed', 'stopped', 'interrupted']
// Questions about a job that go unanswered: after the first number it is said, after the second nobody asks any more.
const SILENT = 8
const GIVEN_UP = 40

/** Following a job until it is over: what it has so far is shown, and then what it left. */
export function following(
  set: StoreApi<Quilt>['setState'],
  get: () => Quilt,
  reload: () => Promise<void>,
  repaint: () => void,
): (job: Job) => Promise<void> {
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
    const { stage } = get()
    let silent = 0
    while (!OVER.includes(job.state)) {
      // The server answers as soon as the job is over, or after this time.
      const params = { path: { job_id: job.id }, query: { wait: 0.15 } }
      const { data } = await api.GET('/api/jobs/{job_id}', { params })
      if (get().state?.id !== project) return
      if (!data) {
        silent += 1
        if (silent === SILENT) set({ message: GONE })
        if (silent > GIVEN_UP) return set({ job: null })
        await pause(Math.min(2000, 100 * silent))
        continue
      }
      if (silent >= SILENT && get().message === GONE) set({ message: '' })
      silent = 0
      job = data
      set({ job })
      if (job.kind === 'propose' && job.progress.proposals)
        set({ proposals: { base: get().proposals?.base ?? 0, rows: job.progress.proposals as Proposal[] } })
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
    await reload()
    // Everything at once: whoever waits for the job to be over sees what it left.
    const { layout = 0 } = get().state ?? {}
    const result = job.state === 'done' ? ended(job, layout ?? 0, get().stage === stage) : {}
    set({ job: null, message: job.error, ...result })
    void get().restore()
    if (job.state === 'done' && job.kind === 'deliver') download(`/api/jobs/${job.id}/output`)
    if (job.state === 'done' && job.kind === 'save') download(`/api/jobs/${job.id}/saved`)
    if (job.state === 'done' && job.kind === 'alike') {
      const found = Object.entries(job.result.islands as Record<string, number[]>)
      const keys = found.flatMap(([file, islands]) => islands.map((i) => `${file}:${i}`))
      get().select(keys, false, true)
    }
  }

  return follow
}
