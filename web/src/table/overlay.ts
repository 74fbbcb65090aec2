import type { Line } from '../scene/flat'
import type { Close } from './closeness'
import { thinned, type Cluster } from './thinning'
import { drawScales } from './scales'
import * as THREE from 'three'
import { placeOf, pxOf, tilesOf, type Flat } from '../scene/sheets'
import { drawn } from '../colours'

/** A place that a click finds, and what it selects. */
export interface Spot {
  at: [u: number, v: number]
  keys: string[]
}

/** What is marked on the sheet, in UV. */
export interface Marks {
  /** Too narrow gaps: place, px, and the islands that a click selects. */
  gaps: { at: [u: number, v: number]; px: number; keys: string[] }[]
  /** Middles of islands outside the sheet: each is tied to the tile by a dotted leash. */
  leashes: Spot[]
  /** Middles of mirrored islands: a mirrored corner. */
  corners: Spot[]
  /** Middles of held islands: a pin head. */
  pins: [u: number, v: number][]
  /** Middles of islands of a bunch, and its number: a thread of its own dash runs through them. */
  bunches: [u: number, v: number][][]
  /** Texels whose ray of the test bake missed: small open rings. */
  misses: [u: number, v: number][]
}

/** The drawing over the table: the tile's stitched border, its number, and marks that keep their size. */
export class Overlay {
  marks: Marks = { gaps: [], leashes: [], corners: [], pins: [], bunches: [], misses: [] }
  /** Picked edges and faces. */
  edges: Line[] = []
  faces: Line[] = []
  /** Around what sewing would bring across. */
  ghost: [u0: number, v0: number, u1: number, v1: number][] = []
  /** Ends of what is measured. */
  measured: [u: number, v: number][] = []
  /** Triangles that what the hand does would turn over. */
  folds: Line[] = []
  box: THREE.Box2 | null = null
  colours = drawn(false)
  lasso: THREE.Vector2[] = []
  points: [u: number, v: number][] = []
  /** Where what is dragged comes too near to something. */
  close: Close[] = []
  /** Words beside the pointer while something is dragged. */
  note: { at: [u: number, v: number]; text: string } | null = null
  rulers = false
  pointer: [u: number, v: number] | null = null
  sheet: Flat | null = null
  /** px to the border of a tile. */
  margin = 0
  private readonly canvas = document.createElement('canvas')
  private readonly pen = this.canvas.getContext('2d')!
  private toScreen = (u: number, v: number): [number, number] => [u, v]
  private fromScreen = (x: number, y: number): [number, number] => [x, y]

  constructor(private readonly host: HTMLElement) {
    Object.assign(this.canvas.style, { position: 'absolute', inset: '0', pointerEvents: 'none' })
    host.append(this.canvas)
  }

  draw(centre: THREE.Vector2, span: number): void {
    const { clientWidth: w, clientHeight: h } = this.host
    const ratio = devicePixelRatio
    if (this.canvas.width !== w * ratio || this.canvas.height !== h * ratio) {
      this.canvas.width = w * ratio
      this.canvas.height = h * ratio
      Object.assign(this.canvas.style, { width: `${w}px`, height: `${h}px` })
    }
    const unit = span / Math.min(w, h)
    this.toScreen = (u, v) => [(u - centre.x) / unit + w / 2, (centre.y - v) / unit + h / 2]
    this.fromScreen = (x, y) => [(x - w / 2) * unit + centre.x, centre.y - (y - h / 2) * unit]
    this.pen.setTransform(ratio, 0, 0, ratio, 0, 0)
    this.pen.clearRect(0, 0, w, h)
    this.tiles()
    this.picked()
    for (const mark of this.marks.bunches) this.thread(mark)
    for (const mark of this.marks.misses) this.miss(...mark)
    const spot = (m: Spot) => this.toScreen(...m.at)
    this.leashes = this.each(this.marks.leashes, spot, (c) => this.leash(c.x, c.y))
    this.corners = this.each(this.marks.corners, spot, (c) => this.corner(c.x, c.y))
    this.each(
      this.marks.pins,
      (at) => this.toScreen(...at),
      (c) => this.pin(c.x, c.y),
    )
    this.gaps = this.each(this.marks.gaps, spot, (c) => this.gap(c.x, c.y, c.marks.length > 1 ? null : c.marks[0].px))
    this.each(
      this.close,
      (m) => this.toScreen(...m.at),
      (c) =>
        this.gap(
          c.x,
          c.y,
          c.marks.reduce((least, m) => Math.min(least, m.px), Infinity),
        ),
    )
    this.ruler()
    if (this.rulers && this.sheet) {
      const { toScreen, fromScreen, pointer } = this
      drawScales(this.pen, { w, h, px: this.sheet.map_px, unit, toScreen, fromScreen, pointer }, this.colours)
    }
    if (this.note) {
      const [x, y] = this.toScreen(...this.note.at)
      this.text(this.note.text, x + 14, y - 10, this.colours.ink)
    }
    if (this.box)
      this.frame(this.box.min.x, this.box.min.y, this.box.max.x, this.box.max.y, [4, 3], this.colours.ink, 1.5)
    if (this.lasso.length) this.line(this.lasso, [4, 3], this.colours.ink, true)
  }

  private leashes: Cluster<Spot>[] = []
  private corners: Cluster<Spot>[] = []
  private gaps: Cluster<Marks['gaps'][number]>[] = []

  /** Draw marks; where many would lie on each other one glyph with their number. */
  private each<T>(marks: T[], at: (m: T) => [number, number], glyph: (c: Cluster<T>) => void): Cluster<T>[] {
    const found = thinned(marks, at, this.host.clientWidth, this.host.clientHeight)
    for (const c of found) {
      glyph(c)
      if (c.marks.length > 1) this.text(`×${c.marks.length}`, c.x + 7, c.y - 6, this.colours.ink)
    }
    return found
  }

  /** A double stitch along picked edges and a knot at picked points, as on the model; picked faces are tinted. */
  private picked(): void {
    const path = (line: Line) => {
      line.forEach(([u, v], k) => {
        if (k) this.pen.lineTo(...this.toScreen(u, v))
        else this.pen.moveTo(...this.toScreen(u, v))
      })
    }
    this.pen.save()
    this.pen.beginPath()
    for (const f of this.faces) {
      path(f)
      this.pen.closePath()
    }
    this.pen.globalAlpha = 0.45
    this.pen.fillStyle = this.colours.madder
    this.pen.fill()
    this.pen.globalAlpha = 0.85
    this.pen.beginPath()
    for (const f of this.folds) {
      path(f)
      this.pen.closePath()
    }
    this.pen.fill()
    this.pen.globalAlpha = 1
    this.pen.beginPath()
    for (const e of this.edges) path(e)
    for (const [color, width] of [
      [this.colours.madder, 6],
      [this.colours.washed, 2],
    ] as const) {
      Object.assign(this.pen, { strokeStyle: color, lineWidth: width, lineCap: 'round' })
      this.pen.stroke()
    }
    this.pen.beginPath()
    for (const [u0, v0, u1, v1] of this.ghost) {
      this.pen.moveTo(...this.toScreen(u0, v0))
      this.pen.lineTo(...this.toScreen(u1, v1))
    }
    Object.assign(this.pen, { strokeStyle: this.colours.indigo, lineWidth: 2 })
    this.pen.setLineDash([2, 4])
    this.pen.stroke()
    this.pen.setLineDash([])
    this.pen.fillStyle = this.colours.madder
    for (const at of this.points) {
      const [x, y] = this.toScreen(...at)
      this.pen.fillRect(x - 4.5, y - 4.5, 9, 9)
    }
    this.pen.restore()
  }

  /** What the mark under a place on the host selects; null where there is none. */
  hit(x: number, y: number): string[] | null {
    for (const list of [this.gaps, this.corners, this.leashes]) {
      const found = list.find((c) => Math.hypot(c.x - x, c.y - y) < 8)
      if (found) return [...new Set(found.marks.flatMap((m) => m.keys))]
    }
    return null
  }

  private tiles(): void {
    const flat = this.sheet
    if (!flat) return
    for (const t of tilesOf(flat.sheet)) {
      const [column, row] = placeOf(t)
      const m = this.margin / pxOf(flat, t)
      this.tile(column, row, t, flat)
      if (m > 0) this.frame(column + m, row + m, column + 1 - m, row + 1 - m, [1, 4], this.colours.guide, 1)
    }
    for (const { tile, box } of flat.sheet.free ?? []) {
      const [column, row] = placeOf(tile)
      this.hatched(column + box[0], row + box[1], column + box[2], row + box[3])
    }
  }

  /** A region that is kept free: a frame with wide hatching. */
  private hatched(u0: number, v0: number, u1: number, v1: number): void {
    const [x0, y1] = this.toScreen(u0, v0)
    const [x1, y0] = this.toScreen(u1, v1)
    this.frame(u0, v0, u1, v1, [6, 3], this.colours.guide, 1)
    this.pen.save()
    this.pen.beginPath()
    this.pen.rect(x0, y0, x1 - x0, y1 - y0)
    this.pen.clip()
    this.pen.strokeStyle = this.colours.guidePale
    this.pen.lineWidth = 1
    this.pen.beginPath()
    for (let x = x0 - (y1 - y0); x < x1; x += 14) {
      this.pen.moveTo(x, y1)
      this.pen.lineTo(x + (y1 - y0), y0)
    }
    this.pen.stroke()
    this.pen.restore()
    this.text('kept free', x0 + 4, y0 + 14, this.colours.guideInk)
  }

  /** A thread from island to island of a bunch. */
  private thread(middles: [number, number][]): void {
    this.line(
      middles.map(([u, v]) => new THREE.Vector2(u, v)),
      [7, 3, 1.5, 3],
      this.colours.indigo,
      false,
    )
  }

  /** What is measured: its ends, a line between them, and how long it is. */
  private ruler(): void {
    const ends = this.measured.map((at) => this.toScreen(...at))
    this.pen.fillStyle = this.colours.ink
    for (const [x, y] of ends) this.pen.fillRect(x - 3, y - 3, 6, 6)
    if (ends.length < 2 || !this.sheet) return
    const [[a, b], [c, d]] = this.measured
    this.line(
      this.measured.map((at) => new THREE.Vector2(...at)),
      [],
      this.colours.ink,
      false,
    )
    const px = Math.hypot(c - a, d - b) * this.sheet.map_px
    this.text(
      `${px.toFixed(1)} px`,
      (ends[0][0] + ends[1][0]) / 2 + 6,
      (ends[0][1] + ends[1][1]) / 2 - 6,
      this.colours.ink,
    )
  }

  private line(points: THREE.Vector2[], dash: number[], colour: string, close: boolean): void {
    this.pen.setLineDash(dash)
    this.pen.strokeStyle = colour
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    for (const p of points) this.pen.lineTo(...this.toScreen(p.x, p.y))
    if (close) this.pen.closePath()
    this.pen.stroke()
    this.pen.setLineDash([])
  }

  private frame(u0: number, v0: number, u1: number, v1: number, dash: number[], colour: string, width: number): void {
    const [x0, y1] = this.toScreen(u0, v0)
    const [x1, y0] = this.toScreen(u1, v1)
    this.pen.setLineDash(dash)
    this.pen.strokeStyle = colour
    this.pen.lineWidth = width
    this.pen.strokeRect(x0, y0, x1 - x0, y1 - y0)
    this.pen.setLineDash([])
  }

  private tile(column: number, row: number, number: number, flat: Flat): void {
    this.frame(column, row, column + 1, row + 1, [9, 5], this.colours.ink, 1.5)
    const [x, y] = this.toScreen(column, row + 1)
    const wide = this.toScreen(column + 1, row)[0] - x
    const name = flat.sheet.tile_names?.[number]
    const held = flat.sheet.held_tiles?.includes(number) ?? false
    const more = [name, held ? 'held' : '', `${pxOf(flat, number)} px`].filter(Boolean).join(', ')
    this.text(wide > 150 ? `${number}: ${more}` : String(number), x + (held ? 14 : 0), this.above(y), this.colours.ink)
    if (held) this.pin(x + 6, y - 9)
  }

  /** Where the words over something at a height stand: above it, or on its upper border where there is no room. */
  private above(y: number): number {
    return y > 0 ? Math.max(y - 5, 12) : y - 5
  }

  private text(words: string, x: number, y: number, colour: string): void {
    this.pen.font = '12px "Figtree Variable", sans-serif'
    this.pen.lineWidth = 3
    this.pen.strokeStyle = this.colours.paper
    this.pen.strokeText(words, x, y)
    this.pen.fillStyle = colour
    this.pen.fillText(words, x, y)
  }

  private leash(x: number, y: number): void {
    const [u, v] = this.fromScreen(x, y)
    const { columns, rows } = this.sheet?.sheet ?? { columns: 1, rows: 1 }
    const [tx, ty] = this.toScreen(Math.min(columns, Math.max(0, u)), Math.min(rows, Math.max(0, v)))
    this.pen.setLineDash([1.5, 4])
    this.pen.strokeStyle = this.colours.madder
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.moveTo(tx, ty)
    this.pen.lineTo(x, y)
    this.pen.stroke()
    this.pen.setLineDash([])
    this.pen.fillStyle = this.colours.madder
    this.pen.beginPath()
    this.pen.arc(x, y, 3, 0, 7)
    this.pen.fill()
  }

  /** A corner folded to the wrong side. */
  private corner(x: number, y: number): void {
    this.pen.strokeStyle = this.colours.madder
    this.pen.lineWidth = 1.6
    this.pen.beginPath()
    this.pen.moveTo(x + 5, y - 6)
    this.pen.lineTo(x + 5, y + 5)
    this.pen.lineTo(x - 5, y + 5)
    this.pen.moveTo(x + 5, y + 1)
    this.pen.lineTo(x + 1, y + 5)
    this.pen.stroke()
  }

  private miss(u: number, v: number): void {
    const [x, y] = this.toScreen(u, v)
    this.pen.strokeStyle = this.colours.madder
    this.pen.lineWidth = 1
    this.pen.beginPath()
    this.pen.arc(x, y, 2, 0, 7)
    this.pen.stroke()
  }

  private pin(x: number, y: number): void {
    this.pen.fillStyle = this.colours.indigo
    this.pen.strokeStyle = this.colours.sheet
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.arc(x, y, 5, 0, 7)
    this.pen.fill()
    this.pen.stroke()
    this.pen.fillStyle = this.colours.sheet
    this.pen.beginPath()
    this.pen.arc(x - 1.5, y - 1.5, 1.4, 0, 7)
    this.pen.fill()
  }

  /** A tick where a gap is too narrow, with its px; of many only the tick. */
  private gap(x: number, y: number, px: number | null): void {
    this.pen.strokeStyle = this.colours.madder
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.moveTo(x - 4, y - 4)
    this.pen.lineTo(x + 4, y + 4)
    this.pen.stroke()
    if (px !== null) this.text(px.toFixed(1), x + 5, y + 4, this.colours.madder)
  }

  dispose(): void {
    this.canvas.remove()
  }
}
