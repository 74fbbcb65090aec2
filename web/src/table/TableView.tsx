import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useMemo, useRef, useState } from 'react'
import { flatOf, sheetsOf } from '../scene/sheets'
import { bandOf } from '../scene/states'
import { underTiles } from '../scene/pictures'
import { useNight } from '../frame/night'
import { Choice } from '../stages/parts'
import { useQuilt, useParts } from '../store'
import { brushHand } from '../store/brushed'
import { clicked, lined } from '../store/clicked'
import type { Pictures } from './tileSquares'
import { faultMarks, MARKS, missMarks, NONE, ruleMarks, type MarkKind } from './marks'
import { named } from './named'
import { turnRulers, useRulers } from './rulers'
import { Table, type Snap } from './table'
import { UnderPointer } from './UnderPointer'

const LOOKS = { cloth: 'cloth of each object', density: 'density' }
const PICKS = {
  objects: 'pick objects',
  islands: 'pick islands',
  edges: 'pick edges',
  faces: 'pick faces',
  points: 'pick points',
  brush: 'brush',
  measure: 'measure',
}
const SNAPS = { none: 'no snapping', pixel: 'snap to pixels', near: 'snap to neighbours', tile: 'by whole tiles' }
const EMPTY: Pictures = new Map()

/** The tables on the screen, so that a drop can be told which tile it fell on. */
export const shownTable: { current: Table | null } = { current: null }

/** The sheet with its tiles and islands. */
export function TableView() {
  const host = useRef<HTMLDivElement>(null)
  const table = useRef<Table>(null)
  const {
    pieces,
    drawn,
    fitted,
    shown,
    state,
    faults,
    preview,
    picks,
    setPicks,
    fit,
    job,
    sheet,
    setSheet,
    baked,
    shownMap,
    edges,
    faces,
    points,
    ghost,
    measured,
    tiled,
  } = useParts(
    'pieces',
    'drawn',
    'fitted',
    'shown',
    'state',
    'faults',
    'preview',
    'picks',
    'setPicks',
    'fit',
    'job',
    'sheet',
    'setSheet',
    'baked',
    'shownMap',
    'edges',
    'faces',
    'points',
    'ghost',
    'measured',
    'tiled',
  )
  const [look, setLook] = useState<keyof typeof LOOKS>('cloth')
  const [kinds, setKinds] = useState<Set<MarkKind>>(new Set(Object.keys(MARKS) as MarkKind[]))
  const [choosing, setChoosing] = useState(false)
  const [snap, setSnap] = useState<Snap>('pixel')
  const [dim, setDim] = useState(0.25)
  const [under, setUnder] = useState('')
  const rulers = useRulers()
  const [pictures, setPictures] = useState<Pictures>(EMPTY)
  useEffect(() => {
    const t = new Table(host.current!, {
      picked: clicked,
      lined: (from, to, add) => void lined(from, to, add),
      caught: ({ edges, faces, points }, add) => {
        const q = useQuilt.getState()
        if (q.picks === 'edges') q.pickEdges(edges, add)
        else if (q.picks === 'faces') q.pickFaces(faces, add)
        else q.pickPoints(points, add)
      },
      boxed: (islands, add) => {
        const q = useQuilt.getState()
        const objects = (file: number, i: number) =>
          `${file}/${q.pieces.find((p) => p.file === file)?.objectOfIsland[i]}`
        q.select(new Set(islands.map(([f, i]) => (q.picks === 'islands' ? `${f}:${i}` : objects(f, i)))), add)
      },
      marked: (keys) => useQuilt.getState().select(keys, false, true),
      hand: brushHand,
      under: (hit) => {
        const q = useQuilt.getState()
        setUnder(hit && q.state ? named(q.state, q.pieces, hit) : '')
      },
      grab: () => useQuilt.getState().grab(),
      missed: () =>
        useQuilt
          .getState()
          .say('Nothing was grabbed, so the number moved nothing. Drag an island, and type while you hold it.'),
      dragged: (follows, by) => void useQuilt.getState().dropPoints(follows, by),
      dropped: (move, label) => void useQuilt.getState().move(move, label),
    })
    table.current = shownTable.current = t
    return () => {
      shownTable.current = null
      t.dispose()
    }
  }, [])
  const flat = useMemo(() => state && flatOf(state.settings, sheet), [state, sheet])
  const padding = preview.padding_px ?? flat?.padding_px ?? 0
  const margin = preview.margin_px ?? flat?.margin_px ?? 0
  const band = state ? bandOf(state) : 0.14
  const packing = job?.kind === 'pack'
  useEffect(() => {
    let gone = false
    if (state && flat)
      void underTiles(state, flat, baked, shownMap).then((found) => !gone && setPictures(found.size ? found : EMPTY))
    return () => {
      gone = true
    }
  }, [state, flat, baked, shownMap])
  useEffect(() => table.current?.setPieces(pieces), [pieces])
  useEffect(() => table.current?.draw(), [drawn])
  useEffect(() => table.current?.fit(), [fitted])
  useEffect(() => {
    if (shown) table.current?.showSelected()
  }, [shown])
  const night = useNight()
  useEffect(() => table.current?.setNight(night), [night])
  useEffect(() => {
    if (flat) table.current?.setSheet(flat, padding, margin, pictures, dim, tiled)
  }, [flat, padding, margin, pictures, dim, tiled, pieces, night])
  useEffect(
    () => table.current?.setLook(look === 'density', band, kinds.has('flipped'), kinds.has('overlaps')),
    [look, band, kinds, pieces],
  )
  useEffect(() => {
    if (table.current) table.current.snap = snap
  }, [snap])
  useEffect(() => {
    const fine = ['edges', 'faces', 'points', 'brush'].includes(picks)
    if (!table.current) return
    table.current.fine = fine || picks === 'measure'
    table.current.setWires(fine)
  }, [picks])
  useEffect(() => table.current?.setRulers(rulers), [rulers])
  useEffect(() => table.current?.setPicked(edges, faces, points), [edges, faces, points, drawn, pieces])
  useEffect(() => table.current?.setGhost(picks === 'edges' && ghost ? ghost.lines : []), [ghost, picks])
  useEffect(() => table.current?.setMeasured(picks === 'measure' ? measured : []), [measured, picks])
  const marks = useMemo(
    // While a packing runs the table shows drafts, which nobody has measured yet.
    () => ({
      ...(packing ? NONE : faultMarks(faults, pieces, sheet, kinds)),
      ...(state && kinds.has('rules') ? ruleMarks(state, pieces) : {}),
      misses: missMarks(baked, shownMap, sheet, kinds),
    }),
    // `drawn` counts the layouts that the pieces were given.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [faults, pieces, kinds, packing, state, drawn, sheet, baked, shownMap],
  )
  useEffect(() => table.current?.setMarks(marks), [marks])
  const every = state ? sheetsOf(state.settings) : []
  return (
    <Flex direction="column" h="100%" bg="paper">
      <Flex gap="1" px="2" py="1" align="center" justify="flex-end" flexShrink="0" wrap="wrap">
        {every.length > 1 && (
          <Choice
            label="Sheet on the table"
            value={String(sheet)}
            options={every.map((s) => [String(s.id), s.name] as const)}
            set={(s) => setSheet(Number(s))}
          />
        )}
        <Text flex="1" color="faded" fontSize="xs" truncate>
          {pictures.size ? '' : `padding ${padding}, margin ${margin} px`}
        </Text>
        {pictures.size > 0 && (
          <input
            type="range"
            aria-label="Dim the picture"
            title="Dim the picture under the islands"
            min="0"
            max="1"
            step="0.05"
            value={dim}
            style={{ width: 60 }}
            onChange={(e) => setDim(Number(e.target.value))}
          />
        )}
        <Choice label="What the table shows" value={look} options={LOOKS} set={setLook} />
        <Choice label="What a click picks" value={picks} options={PICKS} set={setPicks} />
        <Choice label="What a drag snaps to" value={snap} options={SNAPS} set={setSnap} />
        <Button
          size="xs"
          variant="ghost"
          aria-expanded={choosing}
          title="Which marks are drawn"
          onClick={() => setChoosing(!choosing)}
        >
          Marks
        </Button>
        <Button size="xs" variant="ghost" title="Show everything (F)" onClick={fit}>
          Fit
        </Button>
      </Flex>
      <Box position="relative" flex="1" minH="0">
        <Box ref={host} position="absolute" inset="0" overflow="hidden" data-testid="table" />
        <UnderPointer text={under} />
        {choosing && <Switches kinds={kinds} set={setKinds} rulers={rulers} />}
      </Box>
    </Flex>
  )
}

/** Each kind of mark is switched on its own. */
function Switches({
  kinds,
  set,
  rulers,
}: {
  kinds: Set<MarkKind>
  set: (kinds: Set<MarkKind>) => void
  rulers: boolean
}) {
  return (
    <Box position="absolute" top="1" right="2" bg="sheet" border="1px solid" borderColor="thread" p="2" zIndex="1">
      {(Object.entries(MARKS) as [MarkKind, string][]).map(([kind, words]) => (
        <Flex as="label" key={kind} gap="2" align="center" py="0.5">
          <input
            type="checkbox"
            checked={kinds.has(kind)}
            onChange={(e) => {
              const next = new Set(kinds)
              if (e.target.checked) next.add(kind)
              else next.delete(kind)
              set(next)
            }}
          />
          <Text>{words}</Text>
        </Flex>
      ))}
      <Flex as="label" gap="2" align="center" py="0.5" title="G">
        <input type="checkbox" checked={rulers} onChange={turnRulers} />
        <Text>rulers, in px of the map</Text>
      </Flex>
    </Box>
  )
}
