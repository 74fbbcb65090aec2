import { Box, CloseButton, Flex, Text } from '@chakra-ui/react'
import { useQuilt } from '../store'

/** Every finished run with its picture and figures; a click keeps it. */
export function Tries() {
  const { state, job, change, discard } = useQuilt()
  const tries = state?.tries ?? []
  return (
    <Flex
      h={tries.length ? '104px' : '40px'}
      flexShrink="0"
      borderTop="1px dashed"
      borderColor="thread"
      overflowX="auto"
      p="2"
      gap="2"
      align="center"
    >
      {!tries.length && <Text color="faded">Finished runs of the packer stand here, to compare and to keep one.</Text>}
      {tries.map((t) => (
        <Box key={t.id} position="relative" flexShrink="0">
          <Flex
            as="button"
            gap="2"
            p="1"
            pr="6"
            bg="sheet"
            textAlign="left"
            border={t.kept ? '2px dashed' : '1px solid'}
            borderColor={t.kept ? 'ink' : 'thread'}
            aria-pressed={t.kept}
            title={t.kept ? 'This is the layout' : 'Keep this try'}
            onClick={() => !job && !t.kept && void change({ layout: t.id })}
          >
            <img src={`/api/layouts/${t.id}/picture`} width="78" height="78" alt={`Picture of ${t.name}`} />
            <Box fontSize="xs">
              <Text fontWeight="600">
                {t.name}
                {t.kept && ', kept'}
              </Text>
              <Text>{(100 * t.figures.coverage).toFixed(1)} % covered</Text>
              <Text>{t.figures.density?.toPrecision(4)} px/m</Text>
              <Text>
                gap {t.figures.smallest_gap_px?.toFixed(2)} of {t.padding_px} px
              </Text>
              <Text color="faded">{t.figures.seconds?.toFixed(0)} s</Text>
            </Box>
          </Flex>
          {!t.kept && (
            <CloseButton
              size="2xs"
              color="faded"
              position="absolute"
              top="1"
              right="1"
              aria-label={`Delete ${t.name}`}
              title="Delete this try"
              disabled={!!job}
              onClick={() => void discard(t.id)}
            />
          )}
        </Box>
      ))}
    </Flex>
  )
}
