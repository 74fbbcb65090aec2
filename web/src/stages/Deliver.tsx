import { Text } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Figure, Main, Title } from './parts'

export function Deliver() {
  const { state, job, start } = useQuilt()
  return (
    <>
      <Title text="One zip with everything that the next program needs.">Deliver</Title>
      <Figure name="Meshes, in the format they came in" value={String(state?.files.length ?? 0)} />
      <Figure name="Template to paint over, PNG" value={`${state?.settings.map_px ?? ''} px`} />
      <Figure name="Report with all figures" value="report.json" />
      <Text color="faded" my="3">
        Only the UVs of channel 0 change: names, hierarchy, materials, normals, animations and other channels stay as
        they were. The figures in the report are measured on the files that go into the zip.
      </Text>
      {state && !state.packed && (
        <Text color="madder" mb="3">
          This layout is not packed: the files would leave with the UVs that they came with.
        </Text>
      )}
      <Main disabled={!!job || !state?.files.length} onClick={() => void start('deliver')}>
        Make the zip
      </Main>
    </>
  )
}
