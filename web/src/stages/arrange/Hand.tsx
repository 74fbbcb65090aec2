import { Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import * as THREE from 'three'
import { about, aligned, around, exactBoxes, shift, spread, type Move, type Side } from '../../scene/hand'
import { asEdges } from '../../scene/edges'
import { islandsOf } from '../../scene/states'
import { flatOf } from '../../scene/sheets'
import { selectedIslands, useQuilt, useParts } from '../../store'
import { Choice, NumberField, Setting, Whom } from '../parts'

const SIDES: [Side, string][] = [
  ['left', 'Left'],
  ['right', 'Right'],
  ['top', 'Top'],
  ['bottom', 'Bottom'],
]

/** The selected islands' exact boxes by key, and the box around them. */
export function selectedBoxes(): { boxes: Map<string, THREE.Box2>; box: THREE.Box2 } {
  const { state, selection, pieces } = useQuilt.getState()
  const mine = state ? islandsOf(state, selection) : {}
  const sets = new Map(Object.entries(mine).map(([file, islands]) => [Number(file), new Set(islands)]))
  const boxes = exactBoxes(pieces, (p, i) => sets.get(p.file)?.has(i) ?? false)
  return { boxes, box: around(boxes.values()) }
}

const PIVOTS = {
  middle: 'the middle',
  corner: 'the lower left corner',
  tile: 'the middle of the tile',
  point: 'a point, in px',
}
type Pivot = keyof typeof PIVOTS

/** The point about which the selection is turned, scaled and mirrored. */
function pivotOf(pivot: Pivot, [x, y]: [number, number], px: number): THREE.Vector2 {
  const { box } = selectedBoxes()
  const middle = box.getCenter(new THREE.Vector2())
  if (pivot === 'corner') return box.min
  if (pivot === 'tile') return new THREE.Vector2(Math.floor(middle.x) + 0.5, Math.floor(middle.y) + 0.5)
  return pivot === 'point' ? new THREE.Vector2(x / px, y / px) : middle
}

const ORDERS = { object: 'by object', size: 'by size', path: 'along the picked edges' }

/** The selection, or everything, in rows that one can read. */
function Rows() {
  const { start, job, edges, selection } = useParts('start', 'job', 'edges', 'selection')
  const [order, setOrder] = useState<keyof typeof ORDERS>('object')
  const lay = () =>
    void start('mend', {
      action: 'rows',
      way: order,
      islands: selection.size ? selectedIslands() : null,
      ...(order === 'path' && { edges: asEdges(edges) }),
    })
  return (
    <>
      <Text mb="1">In rows, from the upper left, with the padding between</Text>
      <Flex gap="1" wrap="wrap" mb="2" align="center">
        <Choice label="Order of the rows" value={order} options={ORDERS} set={setOrder} />
        <Button size="xs" variant="outline" disabled={!!job || (order === 'path' && edges.size < 2)} onClick={lay}>
          Lay out in rows
        </Button>
      </Flex>
    </>
  )
}

/** The selection moved, turned, scaled, mirrored, lined up, settled and grown; each is one step that can be undone. */
export function Hand() {
  const { state, selection, sheet, move, start, job, say } = useParts(
    'state',
    'selection',
    'sheet',
    'move',
    'start',
    'job',
    'say',
  )
  const [turn, setTurn] = useState(15)
  const [percent, setPercent] = useState(110)
  const [u, setU] = useState(0)
  const [v, setV] = useState(0)
  const [pivot, setPivot] = useState<Pivot>('middle')
  const [point, setPoint] = useState<[number, number]>([0, 0])
  if (!state) return null
  const px = flatOf(state.settings, sheet).map_px
  const centre = () => pivotOf(pivot, point, px)
  const off = !selection.size || !!job
  const all = (m: Move, label: string) => void move(m, label)
  const each = (shifts: (boxes: THREE.Box2[]) => [number, number][], label: string) => {
    const { boxes } = selectedBoxes()
    const keys = [...boxes.keys()]
    const by = shifts([...boxes.values()])
    void move(Object.fromEntries(keys.map((k, i) => [k, shift(...by[i])])), label)
  }
  const swap = () => {
    const { boxes } = selectedBoxes()
    if (boxes.size !== 2) return say('Select exactly two islands to swap their places.')
    each(([a, b]) => {
      const by = b.getCenter(new THREE.Vector2()).sub(a.getCenter(new THREE.Vector2()))
      return [
        [by.x, by.y],
        [-by.x, -by.y],
      ]
    }, 'Swap two islands')
  }
  const button = (text: string, does: () => void, title = '') => (
    <Button key={text} size="xs" variant="outline" disabled={off} title={title} onClick={does}>
      {text}
    </Button>
  )
  return (
    <>
      {selection.size ? (
        <Whom />
      ) : (
        <Text color="faded">Select what to move. On the table it is dragged, Alt turns it.</Text>
      )}
      <Flex gap="1" wrap="wrap" mb="2">
        {button('Turn left 90°', () => all(about(centre(), { angle: Math.PI / 2 }), 'Turn by 90°'), 'R')}
        {button('Right 90°', () => all(about(centre(), { angle: -Math.PI / 2 }), 'Turn by 90°'), 'Shift+R')}
        {button('Mirror', () => all(about(centre(), { mirror: -1 }), 'Mirror'))}
      </Flex>
      <Setting name="About" text="What is turned, scaled and mirrored stays there.">
        <Choice label="About" value={pivot} options={PIVOTS} set={setPivot} />
      </Setting>
      {pivot === 'point' && (
        <Flex gap="1" mb="2">
          <NumberField
            name="Point, from the left"
            value={point[0]}
            unit="px"
            least={-1e6}
            most={1e6}
            set={(x) => setPoint([x, point[1]])}
          />
          <NumberField
            name="Point, from below"
            value={point[1]}
            unit="px"
            least={-1e6}
            most={1e6}
            set={(y) => setPoint([point[0], y])}
          />
        </Flex>
      )}
      <Setting name="Turn by" text="To the left.">
        <Flex gap="1" wrap="wrap" justify="flex-end">
          <NumberField name="Turn by" value={turn} unit="°" least={-360} most={360} set={setTurn} />
          {button('Turn', () => all(about(centre(), { angle: (turn * Math.PI) / 180 }), `Turn by ${turn}°`))}
        </Flex>
      </Setting>
      <Setting name="Scale to" text="The density changes with it.">
        <Flex gap="1" wrap="wrap" justify="flex-end">
          <NumberField name="Scale to" value={percent} unit="%" least={1} most={10000} set={setPercent} />
          {button('Scale', () => all(about(centre(), { scale: percent / 100 }), `Scale to ${percent} %`))}
        </Flex>
      </Setting>
      <Setting name="Move by" text="Right and up, in px of the map. Arrow keys: 1 px, with Shift 10 px.">
        <Flex gap="1" wrap="wrap" justify="flex-end">
          <NumberField name="Move right by" value={u} unit="px" least={-1e5} most={1e5} set={setU} />
          <NumberField name="Move up by" value={v} unit="px" least={-1e5} most={1e5} set={setV} />
          {button('Move', () => all(shift(u / px, v / px), `Move by ${u}, ${v} px`))}
        </Flex>
      </Setting>
      <Text mb="1">Line up</Text>
      <Flex gap="1" wrap="wrap" mb="2">
        {SIDES.map(([side, text]) => button(text, () => each((b) => aligned(b, side), `Line up, ${side}`)))}
        {button('Spread across', () => each((b) => spread(b, 'x'), 'Spread'))}
        {button('Spread upward', () => each((b) => spread(b, 'y'), 'Spread'))}
        {button('Swap two', swap)}
      </Flex>
      <Flex gap="1" wrap="wrap" mb="1">
        {button(
          'Settle',
          () => void start('mend', { action: 'settle', islands: selectedIslands() }),
          'To the nearest place that is free, with its padding',
        )}
        {button(
          'Grow',
          () => void start('mend', { action: 'grow', islands: selectedIslands() }),
          'As large as it still fits here',
        )}
      </Flex>
      <Rows />
      <Text color="faded" fontSize="xs">
        Settle finds the nearest free place with its padding; grow the largest size that fits where it is.
      </Text>
    </>
  )
}
