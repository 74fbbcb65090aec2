import { Box, Flex, Text } from '@chakra-ui/react'
import type { Delivered as Said, Seen } from '../../store/types'
import { Section } from '../arrange/Section'

const dB = (psnr: number | null) => (psnr === null ? '' : `${psnr.toFixed(1)} dB`)

/** What a delivery said of itself: how the surface looks now, and what could not go along. */
export function Delivered({ said }: { said: Said }) {
  if (!said.seen.length && !said.notes.length) return null
  const other = said.seen.filter((s) => s.psnr !== null)
  const same = said.seen.filter((s) => s.psnr === null).map((s) => s.kind)
  return (
    <Box mt="4" pt="3" borderTop="1px dashed" borderColor="thread" role="region" aria-label="What was delivered">
      {said.seen.length > 0 && (
        <>
          <Text fontWeight="600">The surface, before and after</Text>
          <Text color="faded" fontSize="xs" mb="1">
            Pictures and factors of every material, as the new files say them. The model shows both: choose “old paint
            and new” above it.
          </Text>
          {other.map((s) => (
            <Line key={s.kind} seen={s} />
          ))}
          {same.length > 0 && (
            <Text fontSize="xs" color="faded">
              The same: {same.join(', ')}.
            </Text>
          )}
        </>
      )}
      {said.seen_by_material.length > 1 && (
        <Section name="By material, the worst first">
          {said.seen_by_material.slice(0, 40).map((m) => (
            <Flex key={m.material} gap="2" fontSize="xs">
              <Text flex="1" truncate title={m.material}>
                {m.material || 'without a material'}
              </Text>
              <Text>{dB(m.psnr)}</Text>
              <Text w="40%" color="faded">
                {m.kind}
              </Text>
            </Flex>
          ))}
        </Section>
      )}
      {said.looks_other.map((text) => (
        <Text key={text} color="madder" mt="1">
          {text}
        </Text>
      ))}
      {said.notes.length > 0 && (
        <Box mt="2">
          <Text fontWeight="600">Said of the files</Text>
          {said.notes.slice(0, 12).map((note) => (
            <Text key={note} fontSize="xs" mt="1">
              {note}
            </Text>
          ))}
          {said.notes.length > 12 && (
            <Text fontSize="xs" mt="1" color="faded">
              and {said.notes.length - 12} more in the report of the zip
            </Text>
          )}
        </Box>
      )}
    </Box>
  )
}

function Line({ seen }: { seen: Seen }) {
  return (
    <Flex fontSize="xs" gap="2">
      <Text flex="1">{seen.kind}</Text>
      <Text>{dB(seen.psnr)}</Text>
      <Text w="50%" color="faded" truncate title={seen.worst}>
        {seen.worst_psnr === null ? '' : `least ${dB(seen.worst_psnr)}, ${seen.worst || 'without a material'}`}
      </Text>
    </Flex>
  )
}
