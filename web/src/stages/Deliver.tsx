import { Box, Text } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Choice, Figure, Main, numbered, Setting, Title } from './parts'

export function Deliver() {
  const { state, job, start, change } = useQuilt()
  const open = state?.sheets.filter((s) => s.islands && (!s.kept || s.stale.length)) ?? []
  const tiles = state?.sheets.reduce((n, s) => n + (s.figures?.tiles.filter((t) => t.islands).length ?? 0), 0) ?? 0
  const from = state?.settings.channel_in ?? 0
  const to = state?.settings.channel_out ?? 0
  const objOnly = state?.files.some((f) => f.name.toLowerCase().endsWith('.obj'))
  return (
    <>
      <Title text="One zip with everything that the next program needs.">Deliver</Title>
      <Figure name="Meshes, in the format they came in" value={String(state?.files.length ?? 0)} />
      <Figure name="Templates to paint over, PNG" value={`${tiles} ${tiles === 1 ? 'tile' : 'tiles'}`} />
      <Figure name="Report with all figures" value="report.json" />
      <Box my="3">
        <Setting
          name="UV channel to write"
          text={
            objOnly
              ? 'An OBJ has channel 0 only; a glTF can take the layout in a free channel and keep the old UVs.'
              : 'A free channel leaves the UVs that the old textures use as they were.'
          }
        >
          <Choice
            label="UV channel to write"
            value={String(to)}
            options={numbered([0, 1, 2, 3], (c) => `channel ${c}`)}
            set={(c) => void change({ settings: { channel_out: Number(c) } })}
          />
        </Setting>
      </Box>
      <Text color="faded" my="3">
        The layout of channel {from} goes into channel {to}, nothing else changes: names, hierarchy, materials, normals,
        animations and other channels stay as they were. The figures in the report are measured on the files that go
        into the zip.
      </Text>
      {open.length > 0 && (
        <Text color="madder" mb="3">
          {open.map((s) => `${s.name} is ${s.kept ? `stale (${s.stale.join('; ')})` : 'not packed'}`).join('; ')}: the
          files would leave with the UVs as they are.
        </Text>
      )}
      <Main disabled={!!job || !state?.files.length} onClick={() => void start('deliver')}>
        Make the zip
      </Main>
    </>
  )
}
