import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useParts } from '../../store'

/** What a newer version of a file would change; nothing is changed before it is taken over. */
export function NewerVersion() {
  const { newer, job, start, dropNewer } = useParts('newer', 'job', 'start', 'dropNewer')
  if (!newer) return null
  const lines = [
    newer.same.length && `${newer.same.length} objects are as they were and keep their layout`,
    ...newer.changed.map((c) => {
      const what = [
        c.changed && `${c.changed} changed`,
        c.new && `${c.new} new`,
        c.gone && `${c.gone} gone`,
        c.same && `${c.same} as they were`,
      ]
      return `${c.name}: ${what.filter(Boolean).join(', ')} islands`
    }),
    newer.new.length && `new: ${newer.new.join(', ')}`,
    newer.gone.length && `gone: ${newer.gone.join(', ')}`,
  ]
  return (
    <Box mt="3" p="3" border="2px dashed" borderColor="indigo" role="region" aria-label="Newer version">
      <Text fontWeight="600">{newer.name}, the newer version</Text>
      {lines.filter(Boolean).map((l) => (
        <Text key={String(l)}>{l}</Text>
      ))}
      <Flex gap="2" mt="2">
        <Button
          size="xs"
          bg="indigo"
          color="sheet"
          disabled={!!job}
          onClick={() => void start('replace', { compared: newer.job })}
        >
          Take it over
        </Button>
        <Button size="xs" variant="ghost" onClick={() => void dropNewer()}>
          Leave the old one
        </Button>
      </Flex>
    </Box>
  )
}
