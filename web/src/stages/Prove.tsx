import { Box, Text } from '@chakra-ui/react'
import { flatOf } from '../scene/sheets'
import { useQuilt } from '../store'
import { Choice, Figure, Main, Title } from './parts'

/** The measured figures of one sheet. */
export function Prove() {
  const { state, sheet, setSheet, setStage } = useQuilt()
  const row = state?.sheets.find((s) => s.id === sheet) ?? state?.sheets[0]
  const f = row?.figures
  if (!state || !row || !f)
    return <Title text="Measured figures of the layout stand here once there is one.">Prove</Title>
  const flat = flatOf(state.settings, row.id)
  const px = (v: number | null) => (v === null ? 'none' : `${v.toFixed(3)} px`)
  const bad = [
    f.overlap.pairs && `${f.overlap.pairs} pairs of islands overlap`,
    f.overlap.self && `${f.overlap.self} islands overlap themselves`,
    f.outside && `${f.outside} islands are outside or astride tiles`,
  ].filter(Boolean)
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
      <Box p="3" mb="3" border="2px dashed" borderColor={bad.length ? 'madder' : 'moss'}>
        <Text fontWeight="600" color={bad.length ? 'madder' : 'moss'} data-testid="verdict">
          {bad.length ? 'Not fit for baking yet' : 'Fit for baking'}
        </Text>
        {bad.map((b) => (
          <Text key={String(b)}>{b}</Text>
        ))}
        {f.flipped > 0 && (
          <Text>
            {f.flipped} islands are mirrored: letters painted on them read backwards, normal maps turn inside out.
          </Text>
        )}
        {row.stale.length > 0 && <Text color="madder">Its layout is stale: {row.stale.join('; ')}.</Text>}
      </Box>
      <Figure name="Coverage" value={`${(100 * f.coverage).toFixed(2)} %`} />
      <Figure name="Density" value={f.density === null ? 'none' : `${f.density.toPrecision(5)} px/m`} />
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
      {f.tiles.length > 1 && (
        <Box my="3">
          {f.tiles.map((t) => (
            <Figure
              key={t.tile}
              name={`Tile ${t.tile}, ${t.px} px`}
              value={`${t.islands} islands, ${(100 * t.coverage).toFixed(1)} %${t.density ? `, ${t.density.toPrecision(4)} px/m` : ''}`}
            />
          ))}
        </Box>
      )}
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
