import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { objectOf } from '../../scene/objects'
import { useParts } from '../../store'
import { Said, toneOf } from '../Said'
import { onTexels, perMetre } from '../../words'

/** What the packer made of the sheet: the verdict, the figures that count, and the way on. */
export function Made() {
  const { state, sheet, job, setStage } = useParts('state', 'sheet', 'job', 'setStage')
  const row = state?.sheets.find((r) => r.id === sheet) ?? state?.sheets[0]
  const f = row?.figures
  if (!state || !row?.kept || !f || job?.kind === 'pack') return null
  return (
    <Box
      mt="2"
      p="2"
      border="2px dashed"
      borderColor={toneOf(row.verdict?.grade)}
      role="region"
      aria-label="What was packed"
    >
      {row.verdict && <Said {...row.verdict} />}
      <Text>
        {(100 * f.coverage).toFixed(1)} % covered, {perMetre(f.density)}
      </Text>
      <Text color="faded" fontSize="xs">
        {f.smallest_gap_px === null ? '' : `narrowest gap ${f.smallest_gap_px.toFixed(2)} px`}
        {f.seconds ? `, ${f.seconds.toFixed(0)} s` : ''}
      </Text>
      {f.grid && (
        <Text color="faded" fontSize="xs">
          {onTexels(f.grid)}
        </Text>
      )}
      {row.spans && !row.stale.length && !row.moved && <Bound sheet={row.id} spans={row.spans} />}
      <Button size="xs" mt="1" variant="outline" borderColor="ink" disabled={!!job} onClick={() => setStage('Prove')}>
        Next: prove
      </Button>
    </Box>
  )
}

/** The island that spans its tile, and with that bounds the density of all; and what can be done about it. */
function Bound({ sheet, spans }: { sheet: number; spans: string }) {
  const { state, job, start, select } = useParts('state', 'job', 'start', 'select')
  const object = state && objectOf(state, spans)
  if (!object) return null
  return (
    <Box my="1">
      <Text fontSize="xs">An island of {object.name} is as long as the tile: it decides the density of all.</Text>
      <Flex gap="1" mt="1" wrap="wrap">
        <Button size="2xs" variant="ghost" onClick={() => select([spans], false, true)}>
          Show it
        </Button>
        <Button
          size="2xs"
          variant="outline"
          disabled={!!job}
          onClick={() => void start('explain', { sheets: [sheet] })}
        >
          Try what cutting it gains
        </Button>
        <Button
          size="2xs"
          variant="outline"
          disabled={!!job}
          onClick={() =>
            void start('seams', {
              operation: 'across',
              parts: 2,
              islands: { [object.file]: [Number(spans.split(':')[1])] },
            })
          }
        >
          Cut it in two
        </Button>
      </Flex>
    </Box>
  )
}
