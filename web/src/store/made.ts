import type { StoreApi } from 'zustand'
import { api, type Made } from '../api/client'
import { ended } from './ended'
import type { Quilt } from './types'

/** What work left with a project: shown wherever the project is opened. */
export function keeping(
  set: StoreApi<Quilt>['setState'],
  get: () => Quilt,
): Pick<Quilt, 'made' | 'restore' | 'showMade' | 'drop'> {
  /** What a job left on the screen, without its words of the moment and without leading elsewhere. */
  function put({ job }: Made): Partial<Quilt> {
    const left = ended(job, get().state?.layout ?? 0, false)
    for (const of of ['note', 'stage', 'shownMap'] as const) delete left[of]
    return left
  }

  return {
    made: [],
    async restore() {
      const { state } = get()
      if (!state) return
      const { data } = await api.GET('/api/projects/{project_id}/made', { params: { path: { project_id: state.id } } })
      if (!data || get().state?.id !== state.id) return
      set(Object.assign({}, ...data.filter((m) => !m.stale).map(put), { made: data }) as Partial<Quilt>)
    },
    showMade(made) {
      const { job } = made
      set(put(made))
      if (job.kind === 'bake') get().showMap(get().baked?.maps[0] ?? '')
    },
    async drop(made) {
      set({ made: get().made.filter((m) => m !== made) })
      await api.POST('/api/jobs/{job_id}/drop', { params: { path: { job_id: made.job.id } } })
    },
  }
}
