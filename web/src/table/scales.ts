import { ticks } from './ticks'

const WIDE = 18 // pixels of the screen that a ruler is wide

type Place = [x: number, y: number]

/** What rulers are drawn for: the picture's size, px of the map, a pixel of the screen in UV, and where the pointer is in UV. */
export interface Shown {
  w: number
  h: number
  px: number
  unit: number
  toScreen: (u: number, v: number) => Place
  fromScreen: (x: number, y: number) => Place
  pointer: Place | null
}

/** Rulers along the upper and the left border, in px of the map from the sheet's lower left corner; where the pointer stands is marked. */
export function drawScales(
  pen: CanvasRenderingContext2D,
  { w, h, px, unit, toScreen, fromScreen, pointer }: Shown,
  colours: { sheet: string; faded: string; madder: string },
): void {
  pen.fillStyle = colours.sheet
  pen.fillRect(0, 0, w, WIDE)
  pen.fillRect(0, 0, WIDE, h)
  pen.strokeStyle = pen.fillStyle = colours.faded
  pen.lineWidth = 1
  pen.font = '10px "Figtree Variable", sans-serif'
  const [u0, v1] = fromScreen(0, 0)
  const [u1, v0] = fromScreen(w, h)
  pen.beginPath()
  for (const { at, long } of ticks(u0 * px, u1 * px, unit * px)) {
    const x = Math.round(toScreen(at / px, 0)[0]) + 0.5
    if (x < WIDE) continue
    pen.moveTo(x, WIDE)
    pen.lineTo(x, WIDE - (long ? 7 : 3))
    if (long) pen.fillText(at.toLocaleString('en'), x + 2, 9)
  }
  for (const { at, long } of ticks(v0 * px, v1 * px, unit * px)) {
    const y = Math.round(toScreen(0, at / px)[1]) + 0.5
    if (y < WIDE) continue
    pen.moveTo(WIDE, y)
    pen.lineTo(WIDE - (long ? 7 : 3), y)
    if (!long) continue
    pen.save()
    pen.translate(9, y - 2)
    pen.rotate(-Math.PI / 2)
    pen.fillText(at.toLocaleString('en'), 0, 0)
    pen.restore()
  }
  pen.stroke()
  if (!pointer) return
  const [x, y] = toScreen(...pointer)
  pen.strokeStyle = colours.madder
  pen.beginPath()
  pen.moveTo(x, 0)
  pen.lineTo(x, WIDE)
  pen.moveTo(0, y)
  pen.lineTo(WIDE, y)
  pen.stroke()
}
