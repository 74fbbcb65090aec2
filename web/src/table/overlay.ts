import * as THREE from 'three'

/** What is marked on the sheet, in UV. */
export interface Marks {
  /** Too narrow gaps: place and px. */
  gaps: [u: number, v: number, px: number][]
  /** Middles of islands outside the sheet: each is tied to the tile by a dotted leash. */
  leashes: [u: number, v: number][]
  /** Middles of mirrored islands: a mirrored corner. */
  corners: [u: number, v: number][]
  /** Middles of held islands: a pin head. */
  pins: [u: number, v: number][]
}

const INK = '#26324d'
const MADDER = '#a33f34'
const MOST = 400

/** The drawing over the table: the tile's stitched border, its number, and marks that keep their size. */
export class Overlay {
  marks: Marks = { gaps: [], leashes: [], corners: [], pins: [] }
  box: THREE.Box2 | null = null
  private readonly canvas = document.createElement('canvas')
  private readonly pen = this.canvas.getContext('2d')!
  private toScreen = (u: number, v: number): [number, number] => [u, v]

  constructor(private readonly host: HTMLElement) {
    Object.assign(this.canvas.style, { position: 'absolute', inset: '0', pointerEvents: 'none' })
    host.append(this.canvas)
  }

  draw(centre: THREE.Vector2, span: number, margin: number): void {
    const { clientWidth: w, clientHeight: h } = this.host
    const ratio = devicePixelRatio
    if (this.canvas.width !== w * ratio || this.canvas.height !== h * ratio) {
      this.canvas.width = w * ratio
      this.canvas.height = h * ratio
      Object.assign(this.canvas.style, { width: `${w}px`, height: `${h}px` })
    }
    const unit = span / Math.min(w, h)
    this.toScreen = (u, v) => [(u - centre.x) / unit + w / 2, (centre.y - v) / unit + h / 2]
    this.pen.setTransform(ratio, 0, 0, ratio, 0, 0)
    this.pen.clearRect(0, 0, w, h)
    this.tile(0, 0, 1001)
    if (margin > 0) this.frame(margin, margin, 1 - margin, 1 - margin, [1, 4], '#8d8160', 1)
    for (const mark of this.marks.leashes.slice(0, MOST)) this.leash(...mark)
    for (const mark of this.marks.corners.slice(0, MOST)) this.corner(...mark)
    for (const mark of this.marks.pins.slice(0, MOST)) this.pin(...mark)
    for (const mark of this.marks.gaps.slice(0, MOST)) this.gap(...mark)
    if (this.box) this.frame(this.box.min.x, this.box.min.y, this.box.max.x, this.box.max.y, [4, 3], INK, 1.5)
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

  private tile(column: number, row: number, number: number): void {
    this.frame(column, row, column + 1, row + 1, [9, 5], INK, 1.5)
    const [x, y] = this.toScreen(column, row + 1)
    this.text(String(number), x, y - 5, INK)
  }

  private text(words: string, x: number, y: number, colour: string): void {
    this.pen.font = '12px "Figtree Variable", sans-serif'
    this.pen.lineWidth = 3
    this.pen.strokeStyle = '#f6f0e3'
    this.pen.strokeText(words, x, y)
    this.pen.fillStyle = colour
    this.pen.fillText(words, x, y)
  }

  private leash(u: number, v: number): void {
    const [x, y] = this.toScreen(u, v)
    const [tx, ty] = this.toScreen(Math.min(1, Math.max(0, u)), Math.min(1, Math.max(0, v)))
    this.pen.setLineDash([1.5, 4])
    this.pen.strokeStyle = MADDER
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.moveTo(tx, ty)
    this.pen.lineTo(x, y)
    this.pen.stroke()
    this.pen.setLineDash([])
    this.pen.fillStyle = MADDER
    this.pen.beginPath()
    this.pen.arc(x, y, 3, 0, 7)
    this.pen.fill()
  }

  /** A corner folded to the wrong side. */
  private corner(u: number, v: number): void {
    const [x, y] = this.toScreen(u, v)
    this.pen.strokeStyle = MADDER
    this.pen.lineWidth = 1.6
    this.pen.beginPath()
    this.pen.moveTo(x + 5, y - 6)
    this.pen.lineTo(x + 5, y + 5)
    this.pen.lineTo(x - 5, y + 5)
    this.pen.moveTo(x + 5, y + 1)
    this.pen.lineTo(x + 1, y + 5)
    this.pen.stroke()
  }

  private pin(u: number, v: number): void {
    const [x, y] = this.toScreen(u, v)
    this.pen.fillStyle = '#3d5a98'
    this.pen.strokeStyle = '#fbf7ee'
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.arc(x, y, 5, 0, 7)
    this.pen.fill()
    this.pen.stroke()
    this.pen.fillStyle = '#fbf7ee'
    this.pen.beginPath()
    this.pen.arc(x - 1.5, y - 1.5, 1.4, 0, 7)
    this.pen.fill()
  }

  private gap(u: number, v: number, px: number): void {
    const [x, y] = this.toScreen(u, v)
    if (x < -40 || y < -40 || x > this.host.clientWidth + 40 || y > this.host.clientHeight + 40) return
    this.pen.strokeStyle = MADDER
    this.pen.lineWidth = 1.5
    this.pen.beginPath()
    this.pen.moveTo(x - 4, y - 4)
    this.pen.lineTo(x + 4, y + 4)
    this.pen.stroke()
    if (this.marks.gaps.length < 60) this.text(px.toFixed(1), x + 5, y + 4, MADDER)
  }

  dispose(): void {
    this.canvas.remove()
  }
}
