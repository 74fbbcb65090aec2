import { Box, Button, Flex, Text } from '@chakra-ui/react'
import type { components } from '../api/schema'
import { flatOf } from '../scene/sheets'
import { useParts } from '../store'
import { Said, toneOf } from './Said'
import { Choice, Figure, Main, Title } from './parts'
import { TestBake } from './TestBake'
import { onTexels, perMetre } from '../words'

type Bleed = components['schemas']['Bleed']

function clean(b: Bleed): string {
  if (b.clean === null) return 'not measured: its tiles are larger than 8,192 px'
  if (b.clean < 0) return 'neighbours bleed on the full map already'
  return b.clean >= b.levels - 1 ? 'clean on every mip level' : `clean down to mip level ${b.clean}`
}

/** The measured figures of one sheet. */
export function Prove() {
  const { state, sheet, setSheet, setStage } = useParts('state', 'sheet', 'setSheet', 'setStage')
  const row = state?.sheets.find((s) => s.id === sheet) ?? state?.sheets[0]
  const f = row?.figures
  if (!state || !row || !f)
    return <Title text="Measured figures of the layout stand here once there is one.">Prove</Title>
  const flat = flatOf(state.settings, row.id)
  const px = (v: number | null) => (v === null ? 'none' : `${v.toFixed(3)} px`)
  const said = row.verdict
  const others = state.sheets.filter((s) => s.islands && s.id !== row.id)
  return (
    <>
      <Title text={`Measured on the polygons of the islands at ${f.map_px} px, apart from the packer.`}>Prove</Title>
      {others.length > 0 && (
        <Box mb="2">
          <Choice
            label="Sheet to prove"
            value={String(row.id)}
            options={state.sheets.map((s) => [String(s.id), s.name] as const)}
            set={(s) => setSheet(Number(s))}
          />
        </Box>
      )}
      <Box p="3" mb="3" border="2px dashed" borderColor={toneOf(said?.grade)}>
        {said ? <Said {...said} /> : <Text fontWeight="600">Nothing lies on this sheet</Text>}
        {row.stale.length > 0 && <Text color="madder">Its layout is stale: {row.stale.join('; ')}.</Text>}
      </Box>
      <Figure name="Coverage" value={`${(100 * f.coverage).toFixed(2)} %`} />
      <Figure name="Density" value={perMetre(f.density, 5)} />
      {f.grid && <Figure name="Straight edges" value={onTexels(f.grid)} good={f.grid.on === f.grid.edges} />}
      <Figure
        name={`Smallest gap, ${flat.padding_px} px asked`}
        value={px(f.smallest_gap_px)}
        good={f.smallest_gap_px === null || f.smallest_gap_px >= flat.padding_px - 1e-3}
      />
      <Figure
        name={`Smallest margin, ${flat.margin_px} px asked`}
        value={px(f.smallest_margin_px)}
        good={f.smallest_margin_px === null || f.smallest_margin_px >= flat.margin_px - 1e-3}
      />
      <Figure name="Overlapping pairs" value={String(f.overlap.pairs)} good={!f.overlap.pairs} />
      {f.twins > 0 && <Figure name="Pairs of twins that share texels" value={String(f.twins)} />}
      <Figure name="Islands that overlap themselves" value={String(f.overlap.self)} good={!f.overlap.self} />
      <Figure name="Outside or astride" value={String(f.outside)} good={!f.outside} />
      <Figure name="Mirrored islands" value={String(f.flipped)} good={!f.flipped} />
      <Tiles tiles={f.tiles.filter((t) => t.islands)} padding={flat.padding_px} margin={flat.margin_px} />
      <BleedProof bleed={row.bleed ?? null} />
      <TestBake />
      {f.limiting.length > 0 && (
        <Text my="3">
          What bounds the density: {f.limiting.slice(0, 3).join('; ')}
          {f.limiting.length > 3 && ` and ${f.limiting.length - 3} more`}.
        </Text>
      )}
      <Box mt="4">
        <Main onClick={() => setStage(state.packed ? 'Deliver' : 'Arrange')}>
          {state.packed ? 'Next: deliver' : 'Next: arrange'}
        </Main>
      </Box>
    </>
  )
}

interface Asked {
  tiles: components['schemas']['TileFigures'][]
  padding: number
  margin: number
}

/** What every tile has, and where its islands lie closest. */
function Tiles({ tiles, padding, margin }: Asked) {
  const { select } = useParts('select')
  const px = (v: number) => `${v.toFixed(2)} px`
  return tiles.map((t) => (
    <Box key={t.tile} my="3" role="group" aria-label={`Tile ${t.tile}`}>
      <Text fontWeight="600" fontSize="sm">
        Tile {t.tile}, {t.px} px
      </Text>
      <Text color="faded" fontSize="xs">
        {t.islands} islands, {(100 * t.coverage).toFixed(1)} %{t.density ? `, ${perMetre(t.density)}` : ''}
      </Text>
      {[
        { name: 'narrowest gap', value: t.gap_px, at: t.gap_at, asked: padding },
        { name: 'nearest to the border', value: t.margin_px, at: t.margin_at, asked: margin },
      ].map(
        (m) =>
          m.value !== null &&
          m.value !== undefined && (
            <Flex key={m.name} align="center" fontSize="xs">
              <Text flex="1" color={m.value < m.asked - 1e-3 ? 'madder' : undefined}>
                {m.name} {px(m.value)}
              </Text>
              <Button size="2xs" variant="ghost" onClick={() => select(m.at ?? [], false, true)}>
                {(m.at?.length ?? 0) > 1 ? 'Show both' : 'Show it'}
              </Button>
            </Flex>
          ),
      )}
    </Box>
  ))
}

/** Down to which mip level no neighbour's colour arrives: measured, next to the habit. */
function BleedProof({ bleed }: { bleed: Bleed | null }) {
  const { job, start, select } = useParts('job', 'start', 'select')
  const key = (of: number[]) => of.join(':')
  const first = bleed?.islands.slice(0, 8) ?? []
  return (
    <Box my="3" py="3" borderY="1px dashed" borderColor="thread">
      <Text fontWeight="600">Bleed proof</Text>
      <Text color="faded" fontSize="xs" mb="2">
        Every island is painted in a colour of its own, padded, shrunk level by level, and sampled along its outline:
        the first level at which a foreign colour makes up more than 2 % is where it bleeds.
      </Text>
      {bleed && (
        <Box role="status" mb="2">
          <Figure name="Clean, measured" value={clean(bleed)} good={bleed.clean === null || bleed.clean >= 0} />
          <Figure name="Rule of thumb, by the padding" value={bleed.thumb < 0 ? 'none' : `level ${bleed.thumb}`} />
          {bleed.tiles.some((t) => t.twice > 0) && (
            <Figure
              name="Texels that two islands cover"
              value={String(bleed.tiles.reduce((n, t) => n + t.twice, 0))}
              good={false}
            />
          )}
          {bleed.thin > 0 && (
            <Flex align="center">
              <Box flex="1">
                <Figure name="Thinner than a texel" value={`${bleed.thin}`} good={false} />
              </Box>
              <Button size="2xs" variant="ghost" onClick={() => select(bleed.thin_islands.map(key), false, true)}>
                Show them
              </Button>
            </Flex>
          )}
          {first.length > 0 && (
            <Text mt="2" fontSize="xs" color="faded">
              The first to bleed:
            </Text>
          )}
          {first.map((b) => (
            <Flex key={`${key(b.island)} ${b.tile}`} align="center" fontSize="xs">
              <Text flex="1">
                level {b.level}, {(100 * b.share).toFixed(0)} % foreign, tile {b.tile}
              </Text>
              <Button
                size="2xs"
                variant="ghost"
                onClick={() => select([b.island, ...(b.other ? [b.other] : [])].map(key), false, true)}
              >
                Show both
              </Button>
            </Flex>
          ))}
        </Box>
      )}
      <Button size="xs" variant="outline" disabled={!!job} onClick={() => void start('bleed')}>
        {bleed ? 'Prove it again' : 'Prove how far the colours stay apart'}
      </Button>
    </Box>
  )
}
