import type { Fault, Job, Made, Settings, State } from '../api/client'
import type { Edge, Edges, Face, Faces, Point, Points } from '../scene/edges'
import type { Move } from '../scene/hand'
import type { Piece } from '../scene/pieces'
import type { Keys } from '../scene/states'
import type { Handling } from './hand'
import type { Against } from './under'

export const STAGES = ['Gather', 'Inspect', 'Mend', 'Even', 'Arrange', 'Prove', 'Deliver'] as const
export type Stage = (typeof STAGES)[number]
export type Kind =
  | 'pack'
  | 'explain'
  | 'mend'
  | 'channel'
  | 'units'
  | 'save'
  | 'deliver'
  | 'settings'
  | 'twins'
  | 'alike'
  | 'copies'
  | 'hand'
  | 'further'
  | 'dirt'
  | 'clean'
  | 'shapes'
  | 'stack'
  | 'bleed'
  | 'bake'
  | 'replace'
  | 'objects'
  | 'keep'
  | 'unwrap'
  | 'propose'
  | 'seams'
  | 'seam_worth'
  | 'ready'

/** Work that is asked for. */
export type Asked = readonly [kind: Kind, params: Record<string, unknown>]

/** What limits the layout, and what an action would gain, as measured by trying it. */
export interface Explanation {
  /** The state that it was measured on. */
  base: number
  sheet: number
  long: [number, number][]
  large: [number, number][]
  hints: { kind: string; islands: [number, number][]; gain: number; value: number | string | null }[]
  /** What the density would gain without each rule. */
  prices?: { rule: string; gain: number }[]
}

/** How the sides of seams differ in a map, 0 to 1; at so many of the places that were looked at it is more than the limit. */
export interface BakedSeams {
  mean: number
  greatest: number
  count: number
  bad: number
  bad_at: [number, number][]
}

/** A test bake of a sheet: figures of each tile; the maps are fetched when they are shown. */
export interface Baked {
  job: number
  layout: number
  sheet: number
  maps: string[]
  pairs: string[]
  /** 1 / m: the curvature that white stands for; black is as much below 0. */
  half_range: number
  seam_percent: number
  tiles: {
    tile: number
    px: number
    twice: number
    missed: number
    missed_at: [number, number][]
    seams: Record<string, BakedSeams>
  }[]
}

/** What is known of an object's UVs. */
export interface Uvs {
  islands: number
  seam_m: number
  stretch: { share_under_1_1: number; share_under_1_5: number; l2: number | null; worst: number | null }
  folded: number
  overlapping: number
}

/** An object whose UVs were made anew, or why they were not. */
export interface Unwrapped {
  key: string
  name: string
  was: Uvs
  now: Uvs | null
  why: string
}

/** A map that old paint was carried over to. */
export interface Carried {
  sheet: string
  tile: number
  kind: string
}

/** How a quantity of the surface looks after a delivery: decibels over all of it and at the worst material, null where nothing differs. */
export interface Seen {
  kind: string
  psnr: number | null
  mean: number
  worst: string
  worst_psnr: number | null
}

/** What a delivery said of itself. */
export interface Delivered {
  job: number
  layout: number
  perSheet: boolean
  carried: Carried[]
  seen: Seen[]
  seen_by_material: { material: string; kind: string; psnr: number; mean: number }[]
  looks_other: string[]
  notes: string[]
}

/** What was done to every object on the way to being ready. */
export interface Readied {
  verdict: string
  grade: string
  reasons: string[]
  coverage: number | null
  objects: {
    key: string
    name: string
    was: Uvs & { without_uvs: number }
    now: Uvs & { without_uvs: number }
    done: string[]
    refused: { what: string; why: string }[]
    left: string[]
  }[]
}

/** A run of seam: how long, how open to view (0 to 1), stretch (L2) before and after sewing, or why it cannot be sewn. */
export interface SeamRun {
  file: number
  object: number
  name: string
  islands: [number, number]
  edges: [triangle: number, side: number][]
  length: number
  open: number
  before: number | null
  after: number | null
  grown: number | null
  why: string
  free: boolean
}

export interface Worth {
  base: number
  seams: SeamRun[]
}

/** What of which mesh could be cleaned, in which snapshot; triangles by kind. */
export interface Dirty {
  base: number
  rows: {
    key: string
    name: string
    counts: Record<string, number>
    faces: Record<string, number[]>
    borders: number
    parts: number
  }[]
}

/** Objects of one shape, in which snapshot, and how far they are from being the same. */
export interface Alike {
  base: number
  groups: { name: string; objects: string[]; away_m: number }[]
}

export type Picks = 'objects' | 'islands' | 'edges' | 'faces' | 'points' | 'brush' | 'measure'

/** A file that did not come in, and why. */
export interface Refused {
  file: string
  why: string
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

/** One of several ways to unwrap the same: a state to look at. Shares are of the surface, coverage is as if packed alone. */
export interface Proposal {
  name: string
  stretch: number
  snapshot: number
  islands: number
  seam_m: number
  under_1_1: number
  under_1_5: number
  worst: number
  coverage: number | null
  objects: Unwrapped[]
}

export interface Quilt extends Handling, Against {
  state: State | null
  faults: Fault[]
  job: Job | null
  /** Changes that the server has not confirmed yet. */
  waiting: number
  explanation: Explanation | null
  message: string
  note: string
  stage: Stage
  /** The sheet that the table shows. */
  sheet: number
  /** What the last run over several sheets did. */
  summary: Packed[]
  /** What the last unwrapping made of which object. */
  unwrapped: Unwrapped[]
  /** Ways to unwrap that can be looked at, and the snapshot that they follow. */
  proposals: { base: number; rows: Proposal[] } | null
  /** The proposal that all views show in place of the project; null for none. */
  looked: number | null
  look: (snapshot: number | null) => Promise<void>
  /** Make the proposal that is looked at the project's next step. */
  take: () => Promise<void>
  /** What making it ready did to which object, and the verdict. */
  readied: Readied | null
  /** What the seams were found to be worth, in which snapshot. */
  seams: Worth | null
  dirty: Dirty | null
  /** Which objects are of one shape. */
  alike: Alike | null
  /** Bits of `ODD` that the views mark on triangles. */
  odd: number
  /** Keys of objects ("file/number") and of single islands ("file:number"). */
  selection: Keys
  /** Whether a click on a picture picks whole objects or single islands. */
  picks: Picks
  /** Edges and faces that are picked, by key; of one file at a time. */
  edges: Edges
  faces: Faces
  /** Points that are picked: they stay where their islands are laid flat. */
  points: Points
  pieces: Piece[]
  /** Unit of the files that do not say. */
  /** Metres in one unit of files that come in and do not say theirs. */
  unit: number
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
  setPicks: (picks: Picks) => void
  /** Pick edges or faces; added ones that are picked already are taken out. */
  pickEdges: (edges: Iterable<Edge>, add?: boolean) => void
  pickFaces: (faces: Iterable<Face>, add?: boolean) => void
  pickPoints: (points: Iterable<Point>, add?: boolean) => void
  /** Pick the edges of the shortest way from the last point to another one, which is picked too. */
  pickWay: (to: Point) => Promise<void>
  pickNothing: () => void
  /** Pick what follows from an edge: its loop, the way to it from the last one, its seam, or the faces that hang together around it. */
  pickMore: (
    way: 'loop' | 'path' | 'seam' | 'bend' | 'border' | 'material' | 'line',
    edge: Edge,
    add?: boolean,
    line?: [number, number][],
  ) => Promise<void>
  /** Add the mirror image of what is picked. */
  pickMirrored: () => Promise<void>
  /** Pick the other faces of the objects in place of those that are picked. */
  invertFaces: () => void
  /** Degrees by which faces bend that hang together. */
  bend: number
  /** Whether what is hidden counts too, where something on the model is drawn around. */
  through: boolean
  setThrough: (on: boolean) => void
  /** The objects that the model shows, by key; null for all. */
  alone: ReadonlySet<string> | null
  showAlone: (keys: Iterable<string> | null) => void
  setBend: (degrees: number) => void
  setSheet: (sheet: number) => void
  setOdd: (bits: number) => void
  /** Move the selection (or `whom`) by hand: one undo step; by one move, or each island by its own. It shows at once. */
  move: (move: Move | Record<string, Move>, label: string, whom?: Iterable<string>) => Promise<void>
  putPicture: (tile: number, file: File) => Promise<void>
  setPreview: (preview: { padding_px?: number; margin_px?: number }) => void
  say: (message: string) => void
  /** What work left with the project, here or elsewhere, until it is used, made again or dropped. */
  made: Made[]
  /** Asks for it, and shows what belongs to the project as it is now. */
  restore: () => Promise<void>
  showMade: (made: Made) => void
  drop: (made: Made) => Promise<void>
  /** Settings that were refused since the project moved on or the application did not answer, to be set again. */
  refusedChange: { settings: Partial<Settings>; words: string } | null
  again: () => Promise<void>
  select: (keys: Iterable<string>, add?: boolean, show?: boolean) => void
  change: (change: { settings: Partial<Settings> }) => Promise<void>
  discard: (layout: number, change?: { discarded?: boolean; name?: string }) => Promise<void>
  step: (direction: 'undo' | 'redo') => Promise<void>
  /** Begin work; `then` follows once it is done. */
  start: (kind: Kind, params?: Record<string, unknown>, then?: Asked) => Promise<void>
  baked: Baked | null
  /** What the last delivery said, until something changes. */
  delivered: Delivered | null
  /** Whether the table shows twins beside the sheet, as a delivery for the bake puts them. */
  aside: boolean
  showAside: (on: boolean) => void
  /** The baked map that the views show in place of the tiles' pictures. */
  shownMap: string
  showMap: (kind: string) => void
  /** What of the last upload did not come in, while others did. */
  refused: { rows: Refused[]; count: number } | null
  /** What a newer version of a file would change, once it was compared. */
  newer: Newer | null
  dropNewer: () => Promise<void>
  compareNewer: (file: number, files: { path: string; file: File }[]) => Promise<void>
  upload: (files: { path: string; file: File }[]) => Promise<void>
  setUnit: (unit: number) => void
  stop: () => Promise<void>
  /** When the state that is shown was asked for (ms): what was heard before that is in it. */
  asOf: number
  /** Fetch the project's state again. */
  reload: () => Promise<void>
  fit: () => void
  show: () => void
}
