import type { StoreApi } from 'zustand'
import { api, words } from '../api/client'
import { asPoints, byObject, pointAt, pointKey, vertexOf, type Point } from '../scene/edges'
import { Live, type Follow } from '../scene/live'
import type { Piece } from '../scene/pieces'
import { flatOf } from '../scene/sheets'
import { Stroke, type Dab } from '../scene/stroke'
import { pause } from './following'
import type { Quilt } from './types'

/** What the hand does with points and the brush. */
export interface Hand {
  /** px on the sheet within which others follow a moved point. */
  reach: number
  /** px on the sheet from which points are welded. */
  near: number
  /** Nothing is done where something would fold. */
  refuse: boolean
  /** px on the screen: the brush's radius; its strength, 0 to 1; whether outlines stay under it. */
  size: number
  strength: number
  held: boolean
}

/** Where the brush stands on an island: in its own UVs, with the brush's radius there. */
export interface Under {
  piece: Piece
  object: number
  island: number
  at: [u: number, v: number]
  radius: number
}

/** Lines around what sewing would bring across, where it would lie; of so many islands. */
export interface Ghost {
  lines: [u0: number, v0: number, u1: number, v1: number][]
  islands: number
}

export interface Handling {
  hand: Hand
  setHand: (hand: Partial<Hand>) => void
  /** What follows the picked points, to be dragged; null where there is nothing to drag. */
  grab: () => Promise<Follow[] | null>
  /** Make a drag a step. */
  dropPoints: (follows: Follow[], by: [u: number, v: number]) => Promise<void>
  /** Line the picked points up, weld or part them. */
  arrangePoints: (operation: 'line' | 'weld' | 'part', how?: 'row' | 'column' | 'line') => Promise<void>
  /** Pick all points on the borders of the islands that picked points are on. */
  pickBorder: () => void
  /** Relax a little around the picked points. */
  ease: () => Promise<void>
  /** What sewing the picked edges would bring across. */
  ghost: Ghost | null
  lookAtSewn: () => Promise<void>
  brush: (phase: 'begin' | 'move' | 'end', under: Under | null) => void
}

const TICK = 33 // ms between two dabs of a brush that stands still
const EASE = 24 // px around an eased point, where nothing follows it farther

export function handling(set: StoreApi<Quilt>['setState'], get: () => Quilt): Handling {
  const px = () => {
    const { state, sheet } = get()
    return state ? flatOf(state.settings, sheet).map_px : 2048
  }
  const redraw = () => set({ drawn: get().drawn + 1 })

  /** Do it; where it is refused everything is as before, and what was picked stays picked in either case. */
  async function go(params: Record<string, unknown>, lives: Live[] = []): Promise<void> {
    const { state, points } = get()
    const before = state?.files.map((f) => f.id) ?? []
    await get().start('hand', params)
    // The work goes on after it was asked for; until it is over the page shows what the hand did.
    while (get().job) await pause(30)
    const { pieces } = get()
    for (const live of lives) if (pieces.includes(live.piece)) live.restore()
    redraw()
    const after = get().state?.files.map((f) => f.id) ?? []
    if (before.length !== after.length) return
    // Other UVs are another file, but its triangles are the same.
    const kept = [...points.values()].map((p) => ({ ...p, file: after[before.indexOf(p.file)] ?? p.file }))
    set({ points: new Map(kept.map((p) => [pointKey(p), p])) })
  }

  let stroke: Stroke | null = null
  let under: Under | null = null
  let timer = 0
  let ending = false

  function begin(u: Under): void {
    const { state, hand, points } = get()
    // A stroke that is not a step yet comes first: the next one begins where it ends.
    if (state?.snapshot == null || get().job || ending) return
    const file = u.piece.file
    const held = [...points.values()].filter((p) => p.file === file && p.object === u.object)
    const body = {
      base: state.snapshot,
      file,
      object: u.object,
      island: u.island,
      token: String(Math.random()),
      held: hand.held,
      points: held.map((p) => [p.triangle, p.corner]),
    }
    const ask = async (done: number, dabs: Dab[]) => {
      const { data, error } = await api.POST('/api/projects/{project_id}/brush', {
        params: { path: { project_id: state.id } },
        body: { ...body, done, dabs },
      })
      if (!data) set({ message: words(error) })
      return data
    }
    stroke = new Stroke(new Live(u.piece), u.object, u.island, ask, redraw)
    timer = window.setInterval(() => stroke?.idle && dab(), TICK)
  }

  function dab(): void {
    if (!stroke || !under || under.piece !== stroke.live.piece || under.island !== stroke.island) return
    stroke.add([...under.at, under.radius, get().hand.strength])
  }

  async function end(): Promise<void> {
    const mine = stroke
    clearInterval(timer)
    stroke = under = null
    if (!mine?.dabs.length) return
    ending = true
    await made(mine).finally(() => (ending = false))
  }

  /** Make a stroke a step. */
  async function made(mine: Stroke): Promise<void> {
    const { live, island, dabs } = mine
    if (!(await mine.end())) {
      live.restore()
      return redraw()
    }
    const { file } = live.piece
    const points = asPoints(new Map([...get().points].filter(([, p]) => p.file === file)))
    const strokes = [{ file, island, held: get().hand.held, dabs }]
    await go({ operation: 'brush', strokes, points: Object.keys(points).length ? points : null }, [live])
  }

  return {
    hand: { reach: 0, near: 8, refuse: true, size: 40, strength: 0.5, held: false },
    setHand: (hand) => set({ hand: { ...get().hand, ...hand } }),
    ghost: null,
    async lookAtSewn() {
      const { state, edges } = get()
      const ghost: Ghost = { lines: [], islands: 0 }
      for (const [file, object, picked] of byObject(edges.values())) {
        if (state?.snapshot == null) break
        const { data } = await api.POST('/api/projects/{project_id}/sewn', {
          params: { path: { project_id: state.id } },
          body: { base: state.snapshot, file, object, edges: picked.map((e) => [e.triangle, e.side]) },
        })
        // Of edges that are no seams there is nothing to show.
        if (!data) continue
        ghost.lines.push(...(data.lines as Ghost['lines']))
        ghost.islands += data.islands
      }
      // Something else may be picked by now.
      if (get().edges === edges && get().state?.snapshot === state?.snapshot)
        set({ ghost: ghost.islands ? ghost : null })
    },
    async grab() {
      const { state, hand, pieces } = get()
      if (state?.snapshot == null) return null
      if (get().job) {
        get().say('Something else is still being done here. Drag again when it is over.')
        return null
      }
      const lives = new Map<number, Live>()
      const out: Follow[] = []
      for (const [file, object, mine] of byObject(get().points.values())) {
        const piece = pieces.find((p) => p.file === file)
        if (!piece) continue
        const body = {
          base: state.snapshot,
          file,
          object,
          points: mine.map((p) => [p.triangle, p.corner]),
          reach: hand.reach / px(),
        }
        const { data, error } = await api.POST('/api/projects/{project_id}/grab', {
          params: { path: { project_id: state.id } },
          body,
        })
        if (!data) {
          set({ message: words(error) })
          return null
        }
        const live = lives.get(file) ?? new Live(piece)
        lives.set(file, live)
        out.push({ live, object, ...data })
      }
      return out.length ? out : null
    },
    async dropPoints(follows, by) {
      const { hand, points } = get()
      const move = { operation: 'move', points: asPoints(points), by, reach: hand.reach / px(), refuse: hand.refuse }
      await go(
        move,
        follows.map((f) => f.live),
      )
    },
    async arrangePoints(operation, how = 'row') {
      const { hand, points } = get()
      await go({ operation, how, points: asPoints(points), near: hand.near / px(), refuse: hand.refuse })
    },
    pickBorder() {
      const { points, pieces } = get()
      const found: Point[] = []
      for (const [file, object, mine] of byObject(points.values())) {
        const p = pieces.find((x) => x.file === file)
        const o = p?.data.header.objects[object]
        if (!p || !o) continue
        const { index, island, edge } = p.data
        const islands = new Set(mine.map((q) => island[index[3 * (o.index[0] + q.triangle) + q.corner]]))
        const rim = new Set<number>()
        for (let e = 2 * o.edge[0]; e < 2 * (o.edge[0] + o.edge[1]); e++)
          if (islands.has(island[edge[e]])) rim.add(edge[e])
        for (let k = 3 * o.index[0]; k < 3 * (o.index[0] + o.index[1]); k++)
          if (rim.delete(index[k])) found.push(pointAt(p, Math.floor(k / 3), k % 3)!)
      }
      set({ points: new Map([...points, ...found.map((p) => [pointKey(p), p] as const)]) })
    },
    async ease() {
      const { points, pieces, hand } = get()
      const radius = Math.max(hand.reach, EASE) / px()
      const strokes: { file: number; island: number; held: boolean; dabs: Dab[] }[] = []
      for (const q of points.values()) {
        const found = vertexOf(pieces, q)
        if (!found) continue
        const [p, v] = found
        const island = p.data.island[v]
        const scale = p.table[5 * island + 2]
        if (!scale) continue
        let stroke = strokes.find((s) => s.file === q.file && s.island === island)
        if (!stroke) strokes.push((stroke = { file: q.file, island, held: false, dabs: [] }))
        stroke.dabs.push([p.data.uv[2 * v], p.data.uv[2 * v + 1], radius / scale, hand.strength])
      }
      if (strokes.length) await go({ operation: 'brush', strokes })
    },
    brush(phase, now) {
      if (phase === 'begin' && now) begin(now)
      if (phase === 'end') return void end()
      under = now ?? under
      dab()
    },
  }
}
