import type { StoreApi } from 'zustand'
import { api, words } from '../api/client'
import { byObject, edgeKey, edgeOf, faceKey, pointKey, type Edge, type Face } from '../scene/edges'
import type { Piece } from '../scene/pieces'
import type { Quilt } from './types'

type Picking = Pick<
  Quilt,
  | 'pickEdges'
  | 'pickFaces'
  | 'pickPoints'
  | 'pickWay'
  | 'pickNothing'
  | 'pickMore'
  | 'pickMirrored'
  | 'invertFaces'
  | 'setBend'
>

/** What a question about picked things holds besides what it asks for. */
const NO_PICK = { edge: [] as number[], goal: null, edges: [], faces: [], line: [] as number[][] }

/** What picks edges, faces and points of surfaces, and what follows from them. */
export function picking(set: StoreApi<Quilt>['setState'], get: () => Quilt): Picking {
  /** Pick what the server found to follow from what was picked. */
  function takePicked(p: Piece, object: number, found: { edges: number[][]; faces: number[] }, add: boolean): void {
    const edges = found.edges.map(([t, side]) => edgeOf(p, object, t, side)).filter((e): e is Edge => !!e)
    const faces = found.faces.map((triangle) => ({ file: p.file, object, triangle }))
    // What is picked already stays.
    if (edges.length)
      set({ edges: new Map([...(add ? get().edges : []), ...edges.map((e) => [edgeKey(e), e] as const)]) })
    if (faces.length)
      set({ faces: new Map([...(add ? get().faces : []), ...faces.map((f) => [faceKey(f), f] as const)]) })
  }

  return {
    pickEdges(found, add = false) {
      const edges = new Map(add ? get().edges : [])
      const several = [...found]
      for (const e of several) {
        const key = edgeKey(e)
        // Of several, those that are picked already stay.
        if (several.length === 1 && edges.has(key)) edges.delete(key)
        else edges.set(key, e)
      }
      set({ edges })
    },
    pickFaces(found, add = false) {
      const faces = new Map(add ? get().faces : [])
      const several = [...found]
      // A polygon that is picked already is taken out again.
      const out = several.length < 64 && several.every((f) => faces.has(faceKey(f)))
      for (const f of several)
        if (out) faces.delete(faceKey(f))
        else faces.set(faceKey(f), f)
      set({ faces })
    },
    pickPoints(found, add = false) {
      const points = new Map(add ? get().points : [])
      const several = [...found]
      for (const p of several)
        if (several.length === 1 && points.has(pointKey(p))) points.delete(pointKey(p))
        else points.set(pointKey(p), p)
      set({ points })
    },
    async pickWay(to) {
      const { state, points } = get()
      const from = [...points.values()].at(-1)
      if (state?.snapshot == null || !from) return
      if (from.file !== to.file || from.object !== to.object)
        return set({ message: 'A way leads between two points of one object. Pick the first one there.' })
      const { file, object } = from
      const ends = { edge: [from.triangle, from.corner], goal: [to.triangle, to.corner] }
      const body = { base: state.snapshot, file, object, way: 'points', degrees: 0, ...NO_PICK, ...ends }
      const { data, error } = await api.POST('/api/projects/{project_id}/pick', {
        params: { path: { project_id: state.id } },
        body,
      })
      const piece = get().pieces.find((p) => p.file === file)
      if (!data || !piece) return set({ message: words(error) })
      takePicked(piece, object, data, true)
      get().pickPoints([to], true)
    },
    pickNothing: () => set({ edges: new Map(), faces: new Map(), points: new Map() }),
    setBend: (bend) => set({ bend }),
    async pickMirrored() {
      const { state, edges, faces, pieces } = get()
      if (state?.snapshot == null) return
      const said: string[] = []
      for (const [file, object] of byObject([...edges.values(), ...faces.values()])) {
        const mine = (x: { file: number; object: number }) => x.file === file && x.object === object
        const asked = {
          edges: [...edges.values()].filter(mine).map((e) => [e.triangle, e.side]),
          faces: [...faces.values()].filter(mine).map((f) => f.triangle),
        }
        const body = { base: state.snapshot, file, object, way: 'mirror', degrees: 0, ...NO_PICK, ...asked }
        const { data, error } = await api.POST('/api/projects/{project_id}/pick', {
          params: { path: { project_id: state.id } },
          body,
        })
        const piece = pieces.find((p) => p.file === file)
        if (!data || !piece) said.push(words(error))
        else takePicked(piece, object, data, true)
      }
      set({ message: said.join(' ') })
    },
    invertFaces() {
      const { faces, pieces } = get()
      const out = new Map<string, Face>()
      for (const [file, object] of byObject(faces.values())) {
        const count = pieces.find((p) => p.file === file)?.data.header.objects[object]?.index[1] ?? 0
        for (let triangle = 0; triangle < count; triangle++) {
          const f = { file, object, triangle }
          if (!faces.has(faceKey(f))) out.set(faceKey(f), f)
        }
      }
      set({ faces: out })
    },
    async pickMore(way, edge, add = false, line = []) {
      const { state, edges, bend } = get()
      if (state?.snapshot == null) return
      const last = [...edges.values()].at(-1)
      const from = way === 'path' && last ? last : edge
      if (way === 'path' && (last?.file !== edge.file || last.object !== edge.object))
        return set({ message: 'A way leads between two edges of one object. Pick the first one there.' })
      const body = {
        base: state.snapshot,
        file: from.file,
        object: from.object,
        way,
        degrees: bend,
        ...NO_PICK,
        edge: [from.triangle, from.side],
        goal: way === 'path' ? [edge.triangle, edge.side] : null,
        line,
      }
      const { data, error } = await api.POST('/api/projects/{project_id}/pick', {
        params: { path: { project_id: state.id } },
        body,
      })
      if (!data) return set({ message: words(error) })
      const piece = get().pieces.find((p) => p.file === from.file)
      if (!piece) return
      takePicked(piece, from.object, data, add || way === 'path')
    },
  }
}
