import type { StoreApi } from 'zustand'
import { api, words, type Job, type Settings, type State } from '../api/client'
import type { Quilt } from './types'

/** Settings in words, for whoever typed them. */
function inWords(settings: Partial<Settings>): string {
  const each = Object.entries(settings)
  if (each.length > 2) return 'your settings'
  const told = (value: unknown) => (typeof value === 'number' || typeof value === 'string' ? ` ${value}` : '')
  return each.map(([name, value]) => `${name.replace(/_px$/, '').replaceAll('_', ' ')}${told(value)}`).join(' and ')
}

/** What changes of a project have to do with the rest of the store. */
interface Around {
  show: (state: State, asking: number) => Promise<boolean>
  reload: () => Promise<void>
  repaint: () => void
  follow: (job: Job) => Promise<void>
  /** A number for what is asked now: answers come in any order. */
  ask: () => number
  /** Whether a proposal is looked at, so that nothing else is done. */
  looking: () => boolean
}

/** Changes of the project on their way to the server: one after the other, shown before they are confirmed, and offered again where they were refused. */
export function changing(
  set: StoreApi<Quilt>['setState'],
  get: () => Quilt,
  { show, reload, repaint, follow, ask, looking }: Around,
) {
  const at = () => ({ params: { path: { project_id: get().state!.id } } })

  // Settings that were changed here and are not confirmed yet: what the screen shows, and what the next change starts from.
  const pending: Partial<Settings>[] = []
  let saved = {} as Settings
  const overlaid = (state: State): State => ({ ...state, settings: Object.assign({}, saved, ...pending) as Settings })

  async function write(
    answer: Promise<{ data?: State; error?: unknown; response: Response }>,
    asked: Partial<Settings> | null = null,
  ): Promise<void> {
    const asking = ask()
    const { data, error, response } = await answer
    // What was typed is not lost: it can be set on the newer state.
    const lost = asked && [409, 503].includes(response.status)
    const refusedChange = lost ? { settings: asked, words: inWords(asked) } : null
    set({ message: data ? '' : words(error), note: '', refusedChange })
    // A state that was asked for after this, and told before it was done, is older: the next change needs the one that this led to.
    if (!data || !(await show(data, asking))) await reload()
  }

  // Changes go out one after the other, each on the snapshot that the last one left: leaving a field by
  // pressing a button is two changes at once.
  let last: Promise<void> = Promise.resolve()
  const queue = (work: () => Promise<void>): Promise<void> => {
    set({ waiting: get().waiting + 1 })
    const done = () => set({ waiting: get().waiting - 1 })
    last = last.then(work, work).finally(done)
    return last
  }

  async function send(change: Parameters<Quilt['change']>[0]): Promise<void> {
    const { state } = get()
    if (state?.snapshot == null) return
    const settings = { ...saved, ...change.settings }
    // What lies with what is measured again, by a job.
    const measured = (['sheets', 'sheet_of', 'twins'] as const).some((k) => k in change.settings)
    if (measured && state.layout !== null) {
      const body = { kind: 'settings', base: state.snapshot, params: { settings } }
      const { data, error, response } = await api.POST('/api/projects/{project_id}/jobs', { ...at(), body })
      if (data) return follow(data)
      const lost = [409, 503].includes(response.status)
      const refusedChange = lost ? { settings: change.settings, words: inWords(change.settings) } : null
      set({ message: words(error), refusedChange })
      return reload()
    }
    const body = { base: state.snapshot, settings }
    await write(api.POST('/api/projects/{project_id}/change', { ...at(), body }), change.settings)
  }

  /** A change was answered: from now on what the server says counts, whether it took the change or not. */
  function settle(settings: Partial<Settings>): void {
    if (pending.includes(settings)) pending.splice(pending.indexOf(settings), 1)
    const { state } = get()
    // What was shown ahead of an answer goes with it, whatever that was.
    if (state) set({ state: overlaid(state), preview: {} })
    repaint()
  }

  const acts: Pick<Quilt, 'take' | 'again' | 'change' | 'discard' | 'step' | 'start'> = {
    take: () =>
      queue(async () => {
        const { looked, proposals } = get()
        if (looked === null || !proposals) return
        set({ looked: null })
        await write(
          api.POST('/api/projects/{project_id}/take', { ...at(), body: { base: proposals.base, snapshot: looked } }),
        )
        if (!get().message) set({ proposals: null, note: 'Taken: these are the UVs now.' })
        void get().restore()
      }),
    again: async () => {
      const { refusedChange, change } = get()
      set({ message: '', refusedChange: null })
      if (refusedChange) await change({ settings: refusedChange.settings })
    },
    change(change) {
      const { settings } = change
      if (looking()) return Promise.resolve()
      const state = get().state
      if (state) {
        pending.push(settings)
        set({ state: overlaid(state) })
      }
      return queue(() => send(change).finally(() => settle(settings)))
    },
    discard: (layout, change = {}) =>
      queue(async () => {
        const base = get().state?.snapshot
        if (base == null || looking()) return
        const body = { base, layout, discarded: true, ...change }
        await write(api.POST('/api/projects/{project_id}/tries/discard', { ...at(), body }))
      }),
    step: (direction) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null || looking() || !state[direction]) return
        const body = { base: state.snapshot }
        await write(
          direction === 'undo'
            ? api.POST('/api/projects/{project_id}/undo', { ...at(), body })
            : api.POST('/api/projects/{project_id}/redo', { ...at(), body }),
        )
      }),
    start: (kind, params = {}, then) =>
      queue(async () => {
        const { state } = get()
        if (state?.snapshot == null || looking()) return
        if (kind === 'propose') set({ proposals: { base: state.snapshot, rows: [] } })
        const body = { kind, base: state.snapshot, params }
        const { data, error } = await api.POST('/api/projects/{project_id}/jobs', { ...at(), body })
        // Following takes as long as the job: the queue goes on meanwhile.
        if (data)
          void follow(data).then(() => (then && !get().job && !get().message ? get().start(...then) : undefined))
        else {
          set({ message: words(error) })
          await reload()
        }
      }),
  }

  return {
    acts,
    overlaid,
    /** What the server says the settings are. */
    confirmed(settings: Settings) {
      saved = settings
    },
    /** Another project is opened. */
    forget() {
      pending.length = 0
    },
  }
}
