import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useState } from 'react'
import { asEdges, asFaces, edgeOf, type Edge } from '../../scene/edges'
import { objectsOf } from '../../scene/saving'
import { selectedIslands, useParts, useQuilt, type SeamRun } from '../../store'
import { Tick } from '../deliver/Extras'
import { NumberField } from '../parts'
import { Act, Question } from './Question'
import { plain } from '../../words'

const AREA = 'Shift drag: a box, with Alt a lasso.'
const GESTURES = {
  edges: `Double click: the loop. Shift click: the way from the last one. ${AREA} Alt drag on the table: a line across islands.`,
  faces: `Double click: what hangs together and bends little. ${AREA}`,
  points: `Shift click: the edges from the last one there. ${AREA} Picked points stay where their island is laid flat again.`,
}

/** Where the seams are: edges picked on the model are cut and sewn; the list says what every seam is worth. */
export function Seams() {
  const { edges, faces, points, picks, setPicks, job, start, bend, setBend } = useParts(
    'edges',
    'faces',
    'points',
    'picks',
    'setPicks',
    'job',
    'start',
    'bend',
    'setBend',
  )
  const { state, ghost } = useParts('state', 'ghost')
  const [flat, setFlat] = useState(true)
  const snapshot = state?.snapshot
  useEffect(() => {
    const asked = setTimeout(() => void useQuilt.getState().lookAtSewn(), 150)
    return () => clearTimeout(asked)
  }, [edges, snapshot])
  const found = edges.size
    ? `${edges.size} ${edges.size === 1 ? 'edge is' : 'edges are'} picked.`
    : faces.size
      ? `${faces.size} ${faces.size === 1 ? 'face is' : 'faces are'} picked: their border can be cut.`
      : points.size
        ? `${points.size} ${points.size === 1 ? 'point is' : 'points are'} picked.`
        : 'Seams are stitched on the model.'
  const picking = picks === 'edges' || picks === 'faces' || picks === 'points'
  const sent = { edges: asEdges(edges), faces: asFaces(faces) }
  return (
    <Question name="Where are the seams?" found={found}>
      <Flex gap="1" mb="2" align="center" wrap="wrap">
        {(['edges', 'faces', 'points'] as const).map((p) => (
          <Button
            key={p}
            size="xs"
            variant="outline"
            {...(picks === p && { bg: 'indigo', color: 'sheet' })}
            aria-pressed={picks === p}
            title="Pick on the model (E)"
            onClick={() => setPicks(picks === p ? 'objects' : p)}
          >
            Pick {p}
          </Button>
        ))}
        {picks === 'faces' && (
          <Flex align="center" gap="1" fontSize="xs">
            <Text>bending under</Text>
            <NumberField name="Faces bend by less than" value={bend} unit="°" least={1} most={180} set={setBend} />
          </Flex>
        )}
      </Flex>
      {picking && (
        <>
          <Text fontSize="xs" color="faded" mb="2">
            {GESTURES[picks]}
          </Text>
          <Tick on={flat} set={setFlat}>
            <Text fontSize="xs">Lay flat at once what was cut or sewn</Text>
          </Tick>
          {ghost && (
            <Text fontSize="xs" mb="1">
              Sewn, {ghost.islands === 1 ? 'an island comes' : `${ghost.islands} islands come`} across: dotted on the
              table.
            </Text>
          )}
          <Flex gap="1" mb="3">
            <Button
              size="xs"
              variant="outline"
              disabled={!!job || !(edges.size || faces.size)}
              onClick={() => void start('seams', { operation: 'cut', relax: flat, ...sent })}
            >
              Cut
            </Button>
            <Button
              size="xs"
              variant="outline"
              disabled={!!job || !edges.size}
              title="The smaller island comes to the larger"
              onClick={() => void start('seams', { operation: 'sew', relax: flat, edges: sent.edges })}
            >
              Sew
            </Button>
          </Flex>
          <More />
        </>
      )}
      <Across />
      <Worth />
    </Question>
  )
}

/** What else can be picked from what is picked. */
function More() {
  const { edges, faces, points, picks, through } = useParts('edges', 'faces', 'points', 'picks', 'through')
  const q = useQuilt.getState
  const some = edges.size > 0 || faces.size > 0
  const [first] = faces.values()
  const material = () => void q().pickMore('material', { ...first, side: 0, a: [0, 0, 0], b: [0, 0, 0] }, true)
  const also: [name: string, title: string, on: boolean, act: () => void][] = [
    ['Mirror image too', 'Add the same in the other half of the object', some, () => void q().pickMirrored()],
    ...(picks === 'faces'
      ? ([
          ['All of its material', 'Add all faces of the material of the first one', !!first, material],
          ['Invert', 'Pick all other faces of these objects instead', !!first, () => q().invertFaces()],
        ] as [string, string, boolean, () => void][])
      : []),
    ['Pick nothing', '', some || points.size > 0, () => q().pickNothing()],
  ]
  return (
    <Box mb="3">
      <Flex gap="1" wrap="wrap" mb="1">
        {also.map(([name, title, on, act]) => (
          <Button key={name} size="xs" variant="ghost" title={title} disabled={!on} onClick={act}>
            {name}
          </Button>
        ))}
      </Flex>
      <Tick on={through} set={(on) => q().setThrough(on)}>
        <Text fontSize="xs">A box or lasso takes what is hidden too</Text>
      </Tick>
    </Box>
  )
}

/** Long islands cut into parts of one length. */
function Across() {
  const { selection, start } = useParts('selection', 'start')
  const [parts, setParts] = useState(2)
  return (
    <Act
      name="Cut across"
      text="The selected islands are cut across their longer side, along the edges that cost least there."
      disabled={!selection.size}
      onClick={() => void start('seams', { operation: 'across', parts, islands: selectedIslands() })}
    >
      <Flex mb="1" align="center" gap="1" fontSize="xs">
        <Text>into</Text>
        <NumberField name="Parts" value={parts} unit="parts" least={2} most={64} set={(n) => setParts(Math.round(n))} />
      </Flex>
    </Act>
  )
}

/** Every seam with its length, how open it lies, and what sewing it would cost. */
function Worth() {
  const { state, seams, selection, start, job } = useParts('state', 'seams', 'selection', 'start', 'job')
  if (!state) return null
  const chosen = objectsOf(state, selection)
  const current = seams?.base === state.snapshot ? seams.seams : null
  const free = (current ?? []).filter((s) => s.free)
  return (
    <>
      <Act
        name={chosen.length ? 'Weigh the seams of the selection' : 'Weigh all seams'}
        text="Each seam is sewn on trial: what it costs in stretch, how open to view it lies, and which are worth nothing."
        onClick={() => void start('seam_worth', { objects: chosen.length ? chosen : null })}
      />
      {seams && !current && (
        <Text fontSize="xs" color="faded" mb="2">
          Something changed since the seams were weighed.
        </Text>
      )}
      {current && (
        <>
          <Rows rows={current} />
          <Act
            name={`Sew ${free.length} that cost nothing`}
            text={`${current.length} seams, ${total(current)} m; ${free.length} of them, ${total(free)} m, can be sewn without stretch.`}
            disabled={!free.length || !!job}
            onClick={() => void start('seams', { operation: 'sew_free', islands: islandsOf(free) })}
          />
        </>
      )}
    </>
  )
}

const total = (rows: SeamRun[]) =>
  plain(
    rows.reduce((n, r) => n + r.length, 0),
    3,
  )

function islandsOf(rows: SeamRun[]): Record<string, number[]> {
  const out: Record<string, Set<number>> = {}
  for (const r of rows) for (const i of r.islands) (out[r.file] ??= new Set()).add(i)
  return Object.fromEntries(Object.entries(out).map(([file, islands]) => [file, [...islands]]))
}

const SHOWN = 60

function Rows({ rows }: { rows: SeamRun[] }) {
  const [all, setAll] = useState(false)
  return (
    <Box maxH="220px" overflowY="auto" mb="2">
      <Box as="table" role="table" aria-label="Seams" fontSize="xs" w="100%">
        <thead>
          <tr>
            <Head>Seam of</Head>
            <Head end>m</Head>
            <Head end title="From how many sides it is seen: 100 % from all, 0 % from none">
              seen
            </Head>
            <Head end title="Share of its islands' surface that would come over a stretch of 1.1">
              sewn, stretches
            </Head>
          </tr>
        </thead>
        <tbody>
          {(all ? rows : rows.slice(0, SHOWN)).map((r, n) => (
            <Row key={n} r={r} />
          ))}
        </tbody>
      </Box>
      {rows.length > SHOWN && !all && (
        <Button size="2xs" variant="ghost" onClick={() => setAll(true)}>
          Show {rows.length - SHOWN} more
        </Button>
      )}
    </Box>
  )
}

/** A seam; a click picks its edges on the model. */
function Row({ r }: { r: SeamRun }) {
  const pick = () => {
    const q = useQuilt.getState()
    const piece = q.pieces.find((p) => p.file === r.file)
    if (!piece) return
    const edges = r.edges.map(([t, side]) => edgeOf(piece, r.object, t, side)).filter((e): e is Edge => !!e)
    q.setPicks('edges')
    q.pickEdges(edges)
    q.select(
      r.islands.map((i) => `${r.file}:${i}`),
      false,
      true,
    )
  }
  const cost = r.why ? 'cannot be' : r.free ? 'nothing' : `${(100 * Math.max(0, r.grown ?? 0)).toFixed(1)} %`
  return (
    <Box as="tr" cursor="pointer" _hover={{ bg: 'fold' }} title={r.why || 'Pick it on the model'} onClick={pick}>
      <td>{r.name}</td>
      <End>{plain(r.length, 3)}</End>
      <End>{(100 * r.open).toFixed(0)} %</End>
      <End>{cost}</End>
    </Box>
  )
}

function End({ children }: { children: React.ReactNode }) {
  return <td style={{ textAlign: 'right', paddingLeft: 6, whiteSpace: 'nowrap' }}>{children}</td>
}

function Head({ children, end, title }: { children: string; end?: boolean; title?: string }) {
  return (
    <Box as="th" pl={end ? '1.5' : 0} textAlign={end ? 'right' : 'left'} color="faded" fontWeight="400" title={title}>
      {children}
    </Box>
  )
}

/** What a hand operation is done to: picked faces, else the selected islands. */
export function whom(): { faces?: Record<string, number[][]>; islands?: Record<string, number[]> } | null {
  const { faces } = useQuilt.getState()
  if (faces.size) return { faces: asFaces(faces) }
  const islands = selectedIslands()
  return islands ? { islands } : null
}
