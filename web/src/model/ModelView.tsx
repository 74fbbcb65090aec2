import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useMemo, useRef, useState, type PointerEvent, type ReactNode } from 'react'
import { carriedTiles, coloursOf, joinedPictures, tintsOf, underTiles } from '../scene/pictures'
import { flatOf } from '../scene/sheets'
import { objectsOf } from '../scene/saving'
import { bandOf, target } from '../scene/states'
import { whenMoved } from '../scene/moving'
import { Choice, numbered } from '../stages/parts'
import { useParts, useQuilt } from '../store'
import { brushHand } from '../store/brushed'
import { caught, clicked } from '../store/clicked'
import { Model } from './model'
import type { Look } from './shaders'
import { length, perMetre } from '../words'
import { COLOURS } from '../colours'

const LOOKS = {
  checker: 'checker',
  density: 'density',
  cloth: 'cloth of each object',
  weave: 'stretch, as weave',
  tiles: 'pictures of the tiles',
  own: 'their own pictures',
}
/** What there is to see once paint was carried over. */
const CARRIED = { wipe: 'old paint and new', change: 'what the new paint changes' }
const SQUARES = [8, 16, 32, 64, 128, 256]
const looks = (carried: boolean) => Object.entries(carried ? { ...LOOKS, ...CARRIED } : LOOKS) as [Look, string][]

/** The model on the screen, so that others can ask how it is looked at. */
export const shownModel: { current: Model | null } = { current: null }

/** The objects in space: with the checker, their density, their cloth colours, or pictures. */
export function ModelView() {
  const host = useRef<HTMLDivElement>(null)
  const model = useRef<Model>(null)
  const {
    pieces,
    drawn,
    fitted,
    shown,
    state,
    sheet,
    odd,
    baked,
    shownMap,
    delivered,
    picks,
    edges,
    faces,
    points,
    stage,
    selection,
    alone,
    showAlone,
    through,
    tiled,
  } = useParts(
    'pieces',
    'drawn',
    'fitted',
    'shown',
    'state',
    'sheet',
    'odd',
    'baked',
    'shownMap',
    'delivered',
    'picks',
    'edges',
    'faces',
    'points',
    'stage',
    'selection',
    'alone',
    'showAlone',
    'through',
    'tiled',
  )
  const [over, setOver] = useState({ words: '', x: 0, y: 0 })
  const [look, setLook] = useState<Look>('checker')
  const [square, setSquare] = useState(64)
  const [wipe, setWipe] = useState(0.5)
  useEffect(() => {
    const m = new Model(host.current!, clicked, caught, (words, x, y) => setOver({ words, x, y }), brushHand)
    model.current = shownModel.current = m
    return () => {
      shownModel.current = null
      m.dispose()
    }
  }, [])
  const map = state ? flatOf(state.settings, sheet).map_px : 2048
  const band = state ? bandOf(state) : 0.14
  useEffect(() => model.current?.setPieces(pieces), [pieces])
  useEffect(() => model.current?.draw(), [drawn])
  useEffect(() => whenMoved(() => model.current?.draw()), [])
  useEffect(() => {
    model.current?.setGrain(picks)
  }, [picks])
  // Seams are drawn where they are worked on.
  const threads = stage === 'Mend' || picks === 'edges'
  const chosen = useMemo(() => (state ? objectsOf(state, selection) : []), [state, selection])
  const whose = useMemo(() => {
    if (!threads) return null
    const mine = chosen.filter((o) => !alone || alone.has(o))
    return new Set(mine.length ? mine : (alone ?? []))
  }, [threads, chosen, alone])
  useEffect(() => {
    if (model.current) model.current.through = through
  }, [through])
  useEffect(
    () => model.current?.setThreads(whose, edges.values(), faces.values(), points.values()),
    [whose, edges, faces, points, pieces],
  )
  useEffect(() => model.current?.fit(), [fitted])
  useEffect(() => {
    const q = useQuilt.getState()
    if (shown) model.current?.showSelected(new Set(q.state ? objectsOf(q.state, q.selection) : []))
  }, [shown])
  useEffect(() => {
    for (const p of pieces) p.showOdd(odd)
    model.current?.draw()
  }, [pieces, odd, alone])
  // A baked map is shown on the model as soon as one is chosen.
  const maps = !!shownMap
  useEffect(() => {
    // Where a baked map is no longer looked at, the model shows what it showed before.
    if (!maps) return
    let before = look
    setLook((now) => {
      before = now
      return 'tiles'
    })
    return () => setLook((now) => (now === 'tiles' ? before : now))
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [maps])
  useEffect(() => {
    let gone = false
    const dress = async () => {
      if (!state || !model.current) return
      const flat = flatOf(state.settings, sheet)
      const colours = (file: number) => coloursOf(state, file)
      if (look === 'wipe' || look === 'change') {
        const fresh = joinedPictures(flat, await carriedTiles(delivered, flat))
        if (gone || !fresh) return fresh?.dispose()
        const reach: [number, number] = [flat.sheet.columns, flat.sheet.rows]
        const tints = (file: number) => tintsOf(state, file)
        model.current.dress.setOwn(colours, { fresh, reach, tints, kept: !delivered?.perSheet })
      } else if (look === 'own') model.current.dress.setOwn(colours)
      else {
        const joined = look === 'tiles' ? joinedPictures(flat, await underTiles(state, flat, baked, shownMap)) : null
        if (gone) return joined?.dispose()
        model.current.dress.setPlain(joined, [flat.sheet.columns, flat.sheet.rows])
      }
      // What compares paint shows paint alone.
      model.current.setLook(look, map / square, band, look !== 'wipe' && look !== 'change')
    }
    void dress()
    return () => {
      gone = true
    }
  }, [look, map, square, band, pieces, state, sheet, baked, shownMap, delivered])
  useEffect(() => model.current?.setWipe(wipe), [wipe, look])
  useEffect(() => model.current?.dress.setTiled(tiled), [tiled])
  // What was delivered is looked at as soon as it is there; where it is gone, the model shows its checker again.
  const carried =
    !!state &&
    !!delivered?.carried.some((c) => c.kind === 'base colour' && c.sheet === flatOf(state.settings, sheet).sheet.name)
  useEffect(() => setLook((now) => (!carried && (now === 'wipe' || now === 'change') ? 'checker' : now)), [carried])
  const wanted = state && target(state, sheet)
  return (
    <Flex position="relative" direction="column" h="100%" bg="paper">
      <Flex gap="1" px="2" py="1" align="center" justify="flex-end" flexShrink="0" wrap="wrap">
        {(alone || chosen.length > 0) && (
          <Button
            size="xs"
            variant="outline"
            mr="auto"
            {...(alone && { bg: 'indigo', color: 'sheet' })}
            aria-pressed={!!alone}
            title="The table still shows everything"
            onClick={() => showAlone(alone ? null : chosen)}
          >
            {alone ? `Only ${alone.size} shown: show all` : 'Show alone'}
          </Button>
        )}
        <Choice label="What the model shows" value={look} options={looks(carried)} set={setLook} />
        {look === 'checker' && (
          <Choice
            label="Checker square"
            value={String(square)}
            options={numbered(SQUARES, (s) => `${s} px${wanted ? `, ${length(s / wanted)}` : ''}`)}
            set={(s) => setSquare(Number(s))}
          />
        )}
      </Flex>
      <Box ref={host} position="relative" flex="1" minH="0" overflow="hidden" data-testid="model" />
      {over.words && (
        <Text
          position="absolute"
          pointerEvents="none"
          bg="sheet"
          px="1"
          fontSize="xs"
          left={`${over.x + 14}px`}
          top={`${over.y + 40}px`}
        >
          {over.words}
        </Text>
      )}
      {look === 'wipe' && <Wipe share={wipe} set={setWipe} />}
      {look === 'change' && (
        <Text position="absolute" bottom="2" left="3" color="faded">
          The difference between the old base colour and the new one, four times as large: black is none.
        </Text>
      )}
      {look === 'weave' && <Weave />}
      {look === 'density' && <Scale band={state?.settings.band ?? 10} wanted={wanted ?? null} />}
      {look === 'tiles' && !shownMap && !Object.keys(state?.settings.pictures ?? {}).length && (
        <Text position="absolute" bottom="2" left="3" color="faded">
          No tile has a picture yet: drop one on the table, or choose one in Even.
        </Text>
      )}
    </Flex>
  )
}

/** The line between the old paint and the new, to be pulled across. */
function Wipe({ share, set }: { share: number; set: (share: number) => void }) {
  const pull = (e: PointerEvent<HTMLDivElement>) => {
    if (!e.buttons) return
    const box = e.currentTarget.parentElement!.getBoundingClientRect()
    set(Math.min(1, Math.max(0, (e.clientX - box.left) / box.width)))
  }
  return (
    <Box
      position="absolute"
      top="40px"
      bottom="0"
      left={`calc(${100 * share}% - 8px)`}
      w="16px"
      cursor="ew-resize"
      role="slider"
      tabIndex={0}
      aria-label="Between the old paint and the new"
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(100 * share)}
      onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
      onPointerMove={pull}
      onKeyDown={(e) => {
        if (e.key === 'ArrowLeft') set(Math.max(0, share - 0.05))
        if (e.key === 'ArrowRight') set(Math.min(1, share + 0.05))
        if (e.key === 'Home') set(0)
        if (e.key === 'End') set(1)
      }}
    >
      <Box mx="auto" w="2px" h="100%" bg="indigo" />
      {(['old', 'new'] as const).map((side) => (
        <Text
          key={side}
          position="absolute"
          top="2"
          {...(side === 'old' ? { right: '16px' } : { left: '16px' })}
          px="1"
          bg="sheet"
          fontSize="xs"
          whiteSpace="nowrap"
          pointerEvents="none"
        >
          {side === 'old' ? 'old paint, old UVs' : 'new paint, new UVs'}
        </Text>
      ))}
    </Box>
  )
}

/** What the weave means. */
function Weave() {
  const { even, taut, tautDeep } = COLOURS
  return (
    <Legend width="120px" from={even} via={taut} to={tautDeep}>
      <Text color="faded">even cloth: under 1.1</Text>
      <Text color="faded">3 times as long one way as the other</Text>
    </Legend>
  )
}

/** What the colours of the density picture mean. */
function Scale({ band, wanted }: { band: number; wanted: number | null }) {
  const { starvedDeep, even, lavishDeep } = COLOURS
  return (
    <Legend width="160px" from={starvedDeep} via={even} to={lavishDeep}>
      <Text color="starved">a quarter</Text>
      <Text color="lavish">four times</Text>
      {wanted && (
        <Text color="faded">
          plain cloth: {perMetre(wanted)} ± {band} %
        </Text>
      )}
    </Legend>
  )
}

interface LegendProps {
  width: string
  from: string
  via: string
  to: string
  /** What stands before the colours, and after them. */
  children: [ReactNode, ...ReactNode[]]
}

/** A run of colours with words at its ends. */
function Legend({ width, from, via, to, children: [first, ...others] }: LegendProps) {
  return (
    <Flex position="absolute" bottom="1" left="3" gap="2" align="center" fontSize="xs" pointerEvents="none">
      {first}
      <Box w={width} h="8px" bgGradient="to-r" gradientFrom={from} gradientVia={via} gradientTo={to} />
      {...others}
    </Flex>
  )
}
