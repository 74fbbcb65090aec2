import type { StoreApi } from 'zustand'
import { api, bringIn, bringPicture, type Job } from '../api/client'
import { pause } from './following'
import type { Quilt } from './types'

type Bringing = Pick<Quilt, 'putPicture' | 'dropNewer' | 'compareNewer' | 'upload'>

/** Files and pictures that are brought in. `follow`: a job until it is over; `looking`: whether a proposal is looked at, so that nothing else is done. */
export function bringing(
  set: StoreApi<Quilt>['setState'],
  get: () => Quilt,
  follow: (job: Job) => Promise<void>,
  looking: () => boolean,
): Bringing {
  return {
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
    async dropNewer() {
      const { newer } = get()
      set({ newer: null })
      if (newer) await api.POST('/api/jobs/{job_id}/drop', { params: { path: { job_id: newer.job } } })
    },
    async compareNewer(file, files) {
      const project = get().state
      if (!project || !files.length || looking()) return
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
      if (!files.length || looking()) return
      set({ message: '' })
      try {
        await follow(await bringIn(project.id, files, get().unit))
      } catch (e) {
        set({ message: (e as Error).message })
      }
    },
  }
}
