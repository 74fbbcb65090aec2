import { create } from 'zustand'
import { useShallow } from 'zustand/react/shallow'
import { api, words, type Fault, type State } from '../api/client'
import { loadGeometry, loadLayout } from '../scene/geometry'
import { dropPictures } from '../scene/pictures'
import { Piece } from '../scene/pieces'
import { moved, type Move } from '../scene/hand'
import { followed } from '../scene/saving'
import { sheetBy } from '../scene/sheets'
import { islandsOf, paint, type Keys } from '../scene/states'
import { asideTwins } from '../scene/twins'
import { bringing } from './bringing'
import { changing } from './changing'
import { following } from './following'
import { handling } from './hand'
import { keeping } from './made'
import { picking } from './picking'
import { against } from './under'
import type { Quilt } from './types'

export * from './types'

/** What belongs to one project's sitting: nothing of it is there when another one opens. */
const fresh = () => ({
  selection: new Set<string>(),
  message: '',
  note: '',
  summary: [],
  unwrapped: [],
  proposals: null,
  looked: null,
  readied: null,
  seams: null,
  alike: null,
  dirty: null,
  ghost: null,
  measured: [],
  edges: new Map(),
  faces: new Map(),
  points: new Map(),
  alone: null,
  explanation: null,
  newer: null,
  refused: null,
  baked: null,
  delivered: null,
  shownMap: '',
  refusedChange: null,
  made: [],
  asOf: 0,
})

export const useQuilt = create<Quilt>((set, get) => {
  const at = () => ({ params: { path: { project_id: get().state!.id } } })

  // Answers may come in another order than they were asked for: an older one never replaces a newer one, nor one project another.
  let asked = 0
  let answered = 0
  let opened: number | null = null
  const begun = new Map<number, number>()
  const ask = () => {
    begun.set(++asked, performance.now())
    return asked
  }
  const late = (asking: number, project: number) => asking < answered || project !== opened

  // What is being loaded now: whoever asked earlier waits for it, since what it shows is newer.
  let loading: Promise<unknown> = Promise.resolve()

  /** Show a state; false where something newer was asked for meanwhile, which is shown then. */
  async function show(state: State, asking: number): Promise<boolean> {
    if (late(asking, state.id)) return false
    const mine = load(state, asking).catch((e: unknown) => {
      if (!late(asking, state.id)) set({ message: (e as Error).message })
      return true
    })
    loading = mine
    return mine
  }

  async function load(state: State, asking: number): Promise<boolean> {
    answered = asking
    const before = get()
    const channel = state.settings.channel_in ?? 0
    const kept = new Map(before.pieces.map((p) => [p.key, p]))
    const pieces: Piece[] = []
    let first = 0
    for (const file of state.files) {
      const key = `${file.id}:${channel}`
      const old = kept.get(key)
      const piece = old ?? new Piece(file.id, await loadGeometry(file.id, channel), first, key)
      kept.delete(key)
      first += piece.data.header.objects.length
      pieces.push(piece)
    }
    const layout = state.layout
    const [tables, { data: faults }] = await Promise.all([
      Promise.all(pieces.map((p) => (layout === null ? null : loadLayout(layout, p.file, p.laid, p.laidOf)))),
      api.GET('/api/projects/{project_id}/faults', {
        params: { path: { project_id: state.id }, query: { look: get().looked } },
      }),
    ])
    if (late(asking, state.id)) {
      for (const p of pieces) if (!get().pieces.includes(p)) p.dispose()
      return false
    }
    changes.confirmed(state.settings)
    pieces.forEach((p, k) => {
      const table = tables[k]
      if (!table) return
      p.laid = table
      p.laidOf = layout
      p.setTable(table)
    })
    const sheet = sheetBy(state.settings, before.sheet).id
    // A bake belongs to the layout that was baked.
    const baked = before.baked?.layout === state.layout ? before.baked : null
    const shownMap = baked ? before.shownMap : ''
    const delivered = before.delivered?.layout === state.layout ? before.delivered : null
    // What is picked of a file is gone with it: other UVs are another file.
    const there = new Set(state.files.map((f) => f.id))
    const still = <T extends { file: number }>(picked: ReadonlyMap<string, T>) =>
      [...picked.values()].every((e) => there.has(e.file)) ? picked : new Map<string, T>()
    const now = (keys: ReadonlySet<string>) =>
      before.state?.id === state.id ? followed(keys, before.state, state, before.pieces, pieces) : new Set(keys)
    const shown = before.alone && now(before.alone)
    const picked = { edges: still(before.edges), faces: still(before.faces), points: still(before.points) }
    const asOf = begun.get(asking) ?? 0
    for (const n of begun.keys()) if (n < asking) begun.delete(n)
    set({
      state: changes.overlaid(state),
      asOf,
      pieces,
      faults: (faults ?? []) as Fault[],
      preview: {},
      sheet,
      baked,
      shownMap,
      delivered,
      selection: now(before.selection),
      alone: shown?.size ? shown : null,
      ...picked,
    })
    repaint()
    for (const p of kept.values()) p.dispose()
    if (pieces.length !== before.pieces.length) get().fit()
    return true
  }

  function repaint(): void {
    const { pieces, selection, state, faults, sheet, alone } = get()
    // What low meshes are baked from stands in their place: it shows where it is meant by itself.
    const details = new Set(state?.objects.filter((o) => o.detail_of && !selection.has(o.key)).map((o) => o.key))
    const hidden = (key: string) => (alone ? !alone.has(key) : details.has(key))
    for (const p of pieces) p.setHidden((n) => hidden(`${p.file}/${n}`))
    if (state) paint(pieces, state, faults, selection, sheet)
    set({ drawn: get().drawn + 1 })
  }

  async function reload(): Promise<void> {
    if (!get().state) return
    const asking = ask()
    const params = { ...at().params, query: { look: get().looked } }
    const { data } = await api.GET('/api/projects/{project_id}', { params })
    if (data) {
      if (!(await show(data, asking))) await loading
    }
    // A proposal may be gone: then the project itself is there.
    else if (get().looked !== null) {
      set({ looked: null })
      await reload()
    }
  }

  /** Whether a proposal is looked at; then nothing else can be done, and it is said what to do first. */
  function looking(): boolean {
    if (get().looked !== null) set({ message: 'You are looking at a proposal. Take it, or go back, then go on.' })
    return get().looked !== null
  }

  const follow = following(set, get, reload, repaint)
  const changes = changing(set, get, { show, reload, repaint, follow, ask, looking })

  // What was picked last where meshes are mended.
  let mended: 'edges' | 'faces' | 'points' = 'edges'

  // What was selected before proposals were looked at.
  let asSelected: Keys = new Set()

  return {
    ...fresh(),
    state: null,
    faults: [],
    job: null,
    waiting: 0,
    stage: 'Gather',
    sheet: 1,
    bend: 30,
    through: false,
    odd: 1,
    picks: localStorage.getItem('picks') === 'islands' ? 'islands' : 'objects',
    pieces: [],
    unit: 1,
    preview: {},
    drawn: 0,
    fitted: 0,
    shown: 0,
    async open(id) {
      opened = id
      const asking = ask()
      const { stage } = get()
      const { data, error } = await api.GET('/api/projects/{project_id}', { params: { path: { project_id: id } } })
      if (opened !== id) return
      if (!data) return set({ message: words(error) })
      changes.forget()
      set({
        ...fresh(),
        // Whoever chose a stage while it was read stays there.
        stage: get().stage !== stage ? get().stage : data.files.length ? (data.packed ? 'Prove' : 'Inspect') : 'Gather',
      })
      await show(data, asking)
      if (opened !== id) return
      void get().restore()
      if (data.job !== null) {
        const running = await api.GET('/api/jobs/{job_id}', { params: { path: { job_id: data.job } } })
        // What somebody else asked for is shown in the bar; what it left comes as their other changes do.
        if (running.data?.mine) void follow(running.data)
      }
    },
    close() {
      opened = null
      for (const p of get().pieces) p.dispose()
      dropPictures()
      set({ state: null, pieces: [], faults: [], job: null, message: '', note: '' })
    },
    // A baked map is looked at where it was baked.
    setStage(stage) {
      // Edges and faces are picked where they are mended; elsewhere a click picks what it always did. What is picked stays so, for work of another
      // stage on it, and so that it can be picked on with when its maker comes back.
      const { picks, edges, faces, points } = get()
      if (picks === 'edges' || picks === 'faces' || picks === 'points') mended = picks
      const usual = localStorage.getItem('picks') === 'islands' ? ('islands' as const) : ('objects' as const)
      const on = stage === 'Mend' && { edges, faces, points }[mended].size > 0
      set({ stage, note: '', ...(stage === 'Prove' ? {} : { shownMap: '' }), picks: on ? mended : usual })
    },
    setPicks(picks) {
      if (picks === 'objects' || picks === 'islands') localStorage.setItem('picks', picks)
      set({ picks })
    },
    ...picking(set, get),
    ...handling(set, get),
    ...against(set, get),
    ...bringing(set, get, follow, looking),
    ...keeping(set, get),
    ...changes.acts,
    setThrough: (through) => set({ through }),
    showAlone(keys) {
      set({ alone: keys && new Set(keys) })
      repaint()
    },
    setSheet(sheet) {
      set({ sheet })
      repaint()
    },
    setOdd(odd) {
      if (odd !== get().odd) set({ odd })
    },
    showAside(aside) {
      const { state, pieces } = get()
      if (!state || (!aside && !get().aside)) return
      for (const p of pieces) p.setTable(p.table)
      for (const a of aside ? asideTwins(state) : [])
        pieces.find((p) => p.file === a.file)?.showAside(a.island, a.columns)
      set({ aside })
      repaint()
    },
    async move(move, label, whom) {
      const { state, selection, aside } = get()
      if (!state || looking()) return
      if (aside) return set({ message: 'Twins are shown aside, where they do not lie. Untick that in Deliver first.' })
      const one = typeof move.angle === 'number' ? (move as Move) : null
      const each = one ? null : (move as Record<string, Move>)
      const row = (m: Move) => [m.angle, m.mirror, m.scale, m.u, m.v]
      const rows: Record<string, number[][]> = {}
      for (const [file, islands] of Object.entries(islandsOf(state, new Set(whom ?? selection))))
        for (const i of islands) {
          const m = one ?? each?.[`${file}:${i}`]
          if (!m) continue
          ;(rows[file] ??= []).push([i, ...row(m)])
        }
      // The move is on the table at once; the server's answer replaces it.
      for (const p of get().pieces) {
        const mine = rows[p.file]
        if (!mine) continue
        const table = p.laid.slice()
        for (const [i, ...m] of mine) {
          const by = { angle: m[0], mirror: m[1], scale: m[2], u: m[3], v: m[4] } as Move
          table.set(moved(p.laid.subarray(5 * i, 5 * i + 5), by), 5 * i)
        }
        p.setTable(table)
      }
      set({ drawn: get().drawn + 1 })
      await get().start('mend', { action: 'move', rows, label })
    },
    async look(looked) {
      if (get().looked === null) asSelected = get().selection
      set({ looked, message: '' })
      get().pickNothing()
      await reload()
      // What was unwrapped is what one looks at; afterwards what was selected before is again.
      const row = get().proposals?.rows.find((p) => p.snapshot === get().looked)
      get().select(row ? row.objects.filter((o) => o.now).map((o) => o.key) : asSelected)
    },
    setPreview: (preview) => set({ preview: { ...get().preview, ...preview } }),
    setUnit: (unit) => set({ unit }),
    say: (message) => set({ message, refusedChange: null }),
    select(keys, add = false, show = false) {
      const selection = new Set(add ? get().selection : [])
      for (const k of keys)
        if (add && selection.has(k)) selection.delete(k)
        else selection.add(k)
      set({ selection })
      repaint()
      if (show) get().show()
    },
    aside: false,
    showMap: (shownMap) => set({ shownMap }),
    async stop() {
      const { job } = get()
      if (job) await api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: job.id } } })
    },
    reload,
    fit: () => set({ fitted: get().fitted + 1 }),
    show: () => set({ shown: get().shown + 1 }),
  }
})

/** The selected islands for each file, as repairs take them; null where nothing is selected: all. */
export function selectedIslands(): Record<string, number[]> | null {
  const { state, selection } = useQuilt.getState()
  return state && selection.size ? islandsOf(state, selection) : null
}

/** Some parts of the store: who asks for them is drawn again when one of these changes, and for nothing else. */
export function useParts<K extends keyof Quilt>(...names: K[]): Pick<Quilt, K> {
  return useQuilt(useShallow((q) => Object.fromEntries(names.map((n) => [n, q[n]])) as Pick<Quilt, K>))
}
