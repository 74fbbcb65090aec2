import { useEffect } from 'react'
import * as THREE from 'three'
import { about, moved, shift } from '../scene/hand'
import { SELECTED } from '../scene/pieces'
import { flatOf } from '../scene/sheets'
import { selectedBoxes } from '../stages/arrange/Hand'
import { useFaults } from '../stages/faultSteps'
import { STAGES, useQuilt, type Picks } from '../store'
import { turnRulers } from '../table/rulers'
import { intoField } from '../table/typed'
import { fold, turnViews } from './room'
import type { Fold } from './rooms'

/** The usual keys of the web, and single letters for what is done often; `Shortcuts.tsx` lists them. */
export function useKeys(): void {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (intoField(e)) return
      if (e.ctrlKey || e.metaKey ? withControl(e) : plain(e)) e.preventDefault()
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [])
}

function withControl(e: KeyboardEvent): boolean {
  const q = useQuilt.getState()
  const key = e.key.toLowerCase()
  if (key === 'z') {
    if (!q.job) void q.step(e.shiftKey ? 'redo' : 'undo')
  } else if (key === 'a') q.select(q.state?.objects.map((o) => o.key) ?? [])
  else return false
  return true
}

function plain(e: KeyboardEvent): boolean {
  const q = useQuilt.getState()
  const key = e.key.toLowerCase()
  const stage = STAGES[Number(key) - 1]
  if (key === 'escape') {
    q.pickNothing()
    q.select([])
  } else if (key === 'f') q.fit()
  else if (key === 's') q.show()
  else if (key === 'v') turnViews(e.shiftKey ? -1 : 1)
  else if (key in FOLDING) fold(FOLDING[key])
  else if (key === 'g') turnRulers()
  else if (key === 'p') q.setPicks(q.picks === 'objects' ? 'islands' : 'objects')
  else if (key === 'e') q.setPicks(NEXT[q.picks] ?? 'edges')
  else if (key === 'b' && q.picks === 'points' && q.points.size) q.pickBorder()
  else if (key === 'r' && q.picks === 'points' && q.points.size) {
    if (!q.job) void q.ease()
  } else if (key === 'r' && q.selection.size && !q.job)
    void q.move(
      about(selectedBoxes().box.getCenter(new THREE.Vector2()), { angle: (e.shiftKey ? -1 : 1) * (Math.PI / 2) }),
      'Turn by 90°',
    )
  else if (key in ARROWS && q.selection.size && !inList(e.target)) nudge(key, e.shiftKey ? 10 : 1)
  else if (key === 'n') {
    const walk = useFaults.getState()
    walk.go(walk.kind, e.shiftKey ? -1 : 1)
  } else if (stage) q.setStage(stage)
  else return false
  return true
}

const FOLDING: Record<string, Fold> = { l: 'ledger', w: 'worksheet', t: 'tries' }

const NEXT: Partial<Record<Picks, Picks>> = { edges: 'faces', faces: 'points', points: 'brush' }

const ARROWS: Record<string, [u: number, v: number]> = {
  arrowleft: [-1, 0],
  arrowright: [1, 0],
  arrowup: [0, 1],
  arrowdown: [0, -1],
}

/** The ledger's lines use the arrows themselves. */
const inList = (t: EventTarget | null) => t instanceof Element && t.closest('[role=listbox]') !== null

let waiting = 0
let far: [u: number, v: number] = [0, 0]
/** Whom the strokes were for: another selection meanwhile must not move in their place. */
let whom: Set<string> | null = null

/** Send what was nudged so far; called when the strokes end, and before anything else is nudged. */
export function endNudge(): void {
  clearTimeout(waiting)
  const q = useQuilt.getState()
  const mine = whom
  whom = null
  const by = shift(...far)
  far = [0, 0]
  if (!mine || !q.state) return
  const { map_px } = flatOf(q.state.settings, q.sheet)
  void q.move(by, `Nudge by ${Math.round(by.u * map_px)}, ${Math.round(by.v * map_px)} px`, mine)
}

/** Move the selection by px; strokes in quick succession are one step. */
function nudge(key: string, px: number): void {
  if (whom && whom !== useQuilt.getState().selection) endNudge()
  const q = useQuilt.getState()
  if (!q.state || q.job) return
  whom = q.selection
  const { map_px } = flatOf(q.state.settings, q.sheet)
  const [u, v] = ARROWS[key].map((n) => (n * px) / map_px)
  for (const p of q.pieces) {
    const table = p.table.slice()
    for (let i = 0; i < p.islands; i++)
      if (p.mark(i) & SELECTED) table.set(moved(table.subarray(5 * i, 5 * i + 5), shift(u, v)), 5 * i)
    p.setTable(table)
  }
  far = [far[0] + u, far[1] + v]
  useQuilt.setState({ drawn: q.drawn + 1 })
  clearTimeout(waiting)
  waiting = window.setTimeout(endNudge, 500)
}
