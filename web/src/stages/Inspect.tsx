import { Button, Text } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Figure, Main, Title } from './parts'

export function Inspect() {
  const { state, setStage, select } = useQuilt()
  const f = state?.figures
  if (!state || !f)
    return <Title text="Bring in a mesh first: then everything wrong with it is listed here.">Inspect</Title>
  const bare = state.objects.filter((o) => !o.islands && !o.left_out)
  const known = state.objects.flatMap((o) => (o.density && !o.left_out ? [o.density.median] : []))
  const factor = known.length ? Math.max(...known) / Math.min(...known) : 1
  return (
    <>
      <Title text="What is in the files and what is wrong with their UVs.">Inspect</Title>
      <Figure name="Objects" value={String(state.objects.length)} />
      <Figure name="Islands" value={String(f.islands)} />
      <Figure
        name="Sharpest object against the most blurred"
        value={`${factor.toFixed(1)} times`}
        good={factor < 1.2}
      />
      <Figure name="Islands that overlap" value={`${f.overlap.pairs} pairs`} good={!f.overlap.pairs} />
      <Figure name="Islands that overlap themselves" value={String(f.overlap.self)} good={!f.overlap.self} />
      <Figure name="Islands outside or astride tiles" value={String(f.outside)} good={!f.outside} />
      <Figure name="Mirrored islands" value={String(f.flipped)} good={!f.flipped} />
      <Figure
        name="Smallest gap"
        value={f.smallest_gap_px === null ? 'none' : `${f.smallest_gap_px.toFixed(2)} px at ${f.map_px}`}
      />
      <Figure name="Objects without UVs" value={String(bare.length)} good={!bare.length} />
      <Text color="faded" my="3">
        Packing parts overlapping islands, brings back those outside and evens the density. Mirrored islands stay
        mirrored, and an island that overlaps itself has to be unwrapped anew where the mesh was made.
        {bare.length > 0 && ' Objects without UVs are left as they are.'}
      </Text>
      {bare.length > 0 && (
        <Button w="100%" mb="2" size="sm" variant="outline" onClick={() => select(bare.map((o) => o.key))}>
          Select the objects without UVs
        </Button>
      )}
      <Main onClick={() => setStage('Even and arrange')}>Next: even and arrange</Main>
    </>
  )
}
