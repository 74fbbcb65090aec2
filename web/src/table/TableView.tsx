import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useMemo, useRef, useState } from 'react'
import type { Fault, State } from '../api/client'
import type { Piece } from '../scene/pieces'
import { bandOf, islandsOf } from '../scene/states'
import { Choice } from '../stages/parts'
import { useQuilt } from '../store'
import type { Marks } from './overlay'
import { Table } from './table'

const LOOKS = { cloth: 'cloth of each object', density: 'density' }
const PICKS = { objects: 'pick objects', islands: 'pick islands' }

/** The sheet with its tile and islands. */
export function TableView() {
  const host = useRef<HTMLDivElement>(null)
  const table = useRef<Table>(null)
  const { pieces, drawn, fitted, shown, state, faults, preview, picks, setPicks, fit, job } = useQuilt()
  const [look, setLook] = useState<keyof typeof LOOKS>('cloth')
  const [marked, setMarked] = useState(true)
  useEffect(() => {
    const t = new Table(host.current!, {
      picked: (hit, add) => {
        const q = useQuilt.getState()
        const single = hit && (q.picks === 'islands' ? `${hit.file}:${hit.island}` : `${hit.file}/${hit.object}`)
        q.select(single ? [single] : [], add)
      },
      boxed: (islands, add) => {
        const q = useQuilt.getState()
        const objects = (file: number, i: number) =>
          `${file}/${q.pieces.find((p) => p.file === file)?.objectOfIsland[i]}`
        q.select(new Set(islands.map(([f, i]) => (q.picks === 'islands' ? `${f}:${i}` : objects(f, i)))), add)
      },
    })
    table.current = t
    return () => t.dispose()
  }, [])
  const map = state?.settings.map_px ?? 2048
  const padding = preview.padding_px ?? state?.settings.padding_px ?? 0
  const margin = preview.margin_px ?? state?.settings.margin_px ?? 0
  const band = state ? bandOf(state) : 0.14
  const packing = job?.kind === 'pack'
  useEffect(() => table.current?.setPieces(pieces), [pieces])
  useEffect(() => table.current?.draw(), [drawn])
  useEffect(() => table.current?.fit(), [fitted])
  useEffect(() => {
    if (shown) table.current?.showSelected()
  }, [shown])
  useEffect(() => table.current?.setGaps(padding / map, margin / map), [padding, margin, map])
  useEffect(() => table.current?.setLook(look === 'density', band, marked, marked), [look, band, marked, pieces])
  const marks = useMemo(
    // While a packing runs the table shows drafts, which nobody has measured yet.
    () => ({ ...(marked && !packing ? marksOf(faults, pieces) : NONE), pins: state ? pinsOf(state, pieces) : [] }),
    // `drawn` counts the layouts that the pieces were given.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [faults, pieces, marked, packing, state, drawn],
  )
  useEffect(() => table.current?.setMarks(marks), [marks])
  return (
    <Flex direction="column" h="100%" bg="paper">
      <Flex gap="1" px="2" py="1" align="center" justify="flex-end" flexShrink="0">
        <Text flex="1" color="faded" fontSize="xs" truncate>
          {map} px, padding {padding} px, margin {margin} px
        </Text>
        <Choice label="What the table shows" value={look} options={LOOKS} set={setLook} />
        <Choice label="What a click picks" value={picks} options={PICKS} set={setPicks} />
        <Button
          size="xs"
          variant="ghost"
          aria-pressed={marked}
          title="The marks of faults"
          onClick={() => setMarked(!marked)}
        >
          {marked ? 'Hide marks' : 'Show marks'}
        </Button>
        <Button size="xs" variant="ghost" title="Show everything (F)" onClick={fit}>
          Fit
        </Button>
      </Flex>
      <Box ref={host} position="relative" flex="1" minH="0" overflow="hidden" data-testid="table" />
    </Flex>
  )
}

const NONE: Marks = { gaps: [], leashes: [], corners: [], pins: [] }

/** The middle of an island's box on the sheet. */
function middleOf(pieces: Piece[], file: number, i: number): [number, number] | null {
  const box = pieces.find((p) => p.file === file)?.box(i)
  return box ? [(box.min.x + box.max.x) / 2, (box.min.y + box.max.y) / 2] : null
}

/** Where islands are held. */
function pinsOf(state: State, pieces: Piece[]): [number, number][] {
  const held = islandsOf(state, new Set(state.settings.held ?? []))
  return Object.entries(held)
    .flatMap(([file, islands]) => islands.map((i) => middleOf(pieces, Number(file), i)))
    .filter((m) => m !== null)
}

/** Where the faults are on the sheet. */
function marksOf(faults: Fault[], pieces: Piece[]): Marks {
  const middle = ([file, i]: [number, number]) => middleOf(pieces, file, i)
  const middles = (...kinds: string[]) =>
    faults
      .filter((f) => kinds.includes(f.kind))
      .flatMap((f) => (f.islands as [number, number][]).slice(0, 400).map(middle))
      .filter((m) => m !== null)
  const gaps = (faults.find((f) => f.kind === 'gap')?.places ?? []) as [number, number, number][]
  return { gaps, leashes: middles('outside', 'astride'), corners: middles('flipped'), pins: [] }
}
