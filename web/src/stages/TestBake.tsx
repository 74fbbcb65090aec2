import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { sheetBy } from '../scene/sheets'
import { useParts } from '../store'
import type { BakedSeams } from '../store/types'
import { plain } from '../words'
import { Choice, Figure, NumberField, numbered, Setting } from './parts'

const SIZES = [256, 512, 1024, 2048, 4096]
const DEPTHS = [
  ['8', '8 bit'],
  ['16', '16 bit'],
] as const

/** A small bake of the sheet, to see what goes wrong before the real one. */
export function TestBake() {
  const { state, sheet, job, start, baked, shownMap, showMap } = useParts(
    'state',
    'sheet',
    'job',
    'start',
    'baked',
    'shownMap',
    'showMap',
  )
  const [px, setPx] = useState(1024)
  const [rays, setRays] = useState(32)
  const [depth, setDepth] = useState<'8' | '16'>('8')
  const [cage, setCage] = useState(0)
  const [percent, setPercent] = useState(5)
  const [pairs, setPairs] = useState<Record<string, string>>({})
  if (!state) return null
  const now = sheetBy(state.settings, sheet).id
  const mine = baked?.sheet === now ? baked : null
  const sum = (of: (t: { twice: number; missed: number }) => number) => mine?.tiles.reduce((n, t) => n + of(t), 0) ?? 0
  const seams = (kind: string) => mine?.tiles.flatMap((t) => t.seams[kind] ?? []) ?? []
  return (
    <Box mb="3" pb="3" borderBottom="1px dashed" borderColor="thread">
      <Text fontWeight="600">Test bake</Text>
      <Text color="faded" fontSize="xs" mb="2">
        Normals, occlusion, curvature, cavity, position and ids, baked here. A mesh named like another with _high in
        place of _low gives its detail.
      </Text>
      <Setting name="Size" text="Of each tile; a smaller one is quicker.">
        <Choice
          label="Size of the test bake"
          value={String(px)}
          options={numbered(SIZES, (s) => `${s} px`)}
          set={(s) => setPx(Number(s))}
        />
      </Setting>
      <Setting name="Rays" text="For each texel of the occlusion map.">
        <NumberField name="Rays" value={rays} unit="" least={1} most={1024} whole set={setRays} />
      </Setting>
      <Setting name="Cage" text="How far off the low mesh rays start, and how deep they go. 0: a fiftieth of all.">
        <NumberField name="Cage" value={cage} unit="m" least={0} most={1000} set={setCage} />
      </Setting>
      <Setting name="Seams" text="How far a map may differ across one, before it counts as bad.">
        <NumberField name="Seam limit" value={percent} unit="%" least={0.1} most={100} set={setPercent} />
      </Setting>
      <Pairs pairs={pairs} set={setPairs} />
      <Flex gap="2" align="center">
        <Button
          size="xs"
          variant="outline"
          disabled={!!job}
          onClick={() =>
            void start('bake', {
              sheet: now,
              px,
              rays,
              depth: Number(depth),
              cage: cage || null,
              pairs,
              seam_percent: percent,
            })
          }
        >
          Bake a test
        </Button>
        <Choice label="Depth of the test bake" value={depth} options={DEPTHS} set={setDepth} />
      </Flex>
      {mine && (
        <Box mt="2" role="status">
          <Setting name="Show" text="On the table and on the model.">
            <Choice
              label="Baked map that is shown"
              value={shownMap}
              options={[['', 'none'], ...mine.maps.map((m) => [m, m] as const)]}
              set={showMap}
            />
          </Setting>
          <Figure
            name="Texels written by two islands"
            value={String(sum((t) => t.twice))}
            good={!sum((t) => t.twice)}
          />
          {mine.pairs.length > 0 && (
            <Figure
              name="Rays that missed the high mesh"
              value={String(sum((t) => t.missed))}
              good={!sum((t) => t.missed)}
            />
          )}
          <Figure name="Low meshes with a high one" value={String(mine.pairs.length)} />
          <Text mt="1" color="faded" fontSize="xs">
            Places on smooth seams where a map differs by over {plain(mine.seam_percent)} %:
          </Text>
          {mine.maps.map((kind) => (
            <SeamFigure key={kind} kind={kind} seams={seams(kind)} />
          ))}
          {mine.half_range > 0 && (shownMap === 'curvature' || shownMap === 'cavity') && (
            <Text color="faded" fontSize="xs">
              {shownMap === 'curvature'
                ? `Grey is flat, white bulges by ${plain(mine.half_range)} per metre or more, black is as hollow.`
                : `White is flat or bulges, black is hollow by ${plain(mine.half_range)} per metre or more.`}
            </Text>
          )}
          <Box as="span" color="indigo" textDecoration="underline">
            <a href={`/api/jobs/${mine.job}/baked.zip`}>All maps as a zip</a>
          </Box>
        </Box>
      )}
    </Box>
  )
}

/** On how many places of seams the two sides of a map differ by more than the limit. */
function SeamFigure({ kind, seams }: { kind: string; seams: BakedSeams[] }) {
  const count = seams.reduce((n, s) => n + s.count, 0)
  const bad = seams.reduce((n, s) => n + s.bad, 0)
  if (!count) return null
  return <Figure name={`Seams, ${kind}`} value={`${bad} of ${count.toLocaleString('en')}`} good={!bad} />
}

interface Chosen {
  pairs: Record<string, string>
  set: (pairs: Record<string, string>) => void
}

/** Which object gets its detail from which, besides those that are named so. */
function Pairs({ pairs, set }: Chosen) {
  const { state } = useParts('state')
  const objects = state?.objects ?? []
  const [low, setLow] = useState('')
  const name = (key: string) => objects.find((o) => o.key === key)?.name ?? 'gone'
  const lows = objects.filter((o) => o.islands && !o.left_out && !(o.key in pairs))
  return (
    <Box mb="2">
      <Setting name="Detail" text="A low object, and the one that its normals come from.">
        <Choice
          label="Low object of a pair"
          value={low}
          options={[['', 'choose'], ...lows.map((o) => [o.key, o.name] as const)]}
          set={setLow}
        />
      </Setting>
      {low && (
        <Choice
          label="Detailed object of a pair"
          value=""
          options={[
            ['', `${name(low)} from`],
            ...objects.filter((o) => o.key !== low).map((o) => [o.key, o.name] as const),
          ]}
          set={(high) => {
            set({ ...pairs, [low]: high })
            setLow('')
          }}
        />
      )}
      {Object.entries(pairs).map(([of, from]) => (
        <Flex key={of} align="center" fontSize="xs">
          <Text flex="1">
            {name(of)} from {name(from)}
          </Text>
          <Button
            size="2xs"
            variant="ghost"
            onClick={() => set(Object.fromEntries(Object.entries(pairs).filter(([key]) => key !== of)))}
          >
            Part them
          </Button>
        </Flex>
      ))}
    </Box>
  )
}
