import { Box, Button, Flex, Heading, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { Progress } from './Progress'
import { isOver, stateOf, useBatches } from './batches'
import { StartBatch } from './StartBatch'

/** The batches on the start page, and the start of one; nothing where this server may read no library. */
export function Batches({ open }: { open: (batch: number) => void }) {
  const [batches, library] = useBatches()
  const [starting, setStarting] = useState(false)
  if (!library && !batches.length) return null
  return (
    <Box as="section" mt="8" aria-label="Batches">
      <Flex align="center" mb="3" gap="3">
        <Heading as="h2" fontSize="md">
          Batches
        </Heading>
        <Text color="faded">one job over many assets of this server's library</Text>
        {library && (
          <Button size="xs" ml="auto" variant="outline" aria-expanded={starting} onClick={() => setStarting(!starting)}>
            {starting ? 'Not now' : 'Start a batch'}
          </Button>
        )}
      </Flex>
      {starting && library && <StartBatch top={library} started={open} />}
      {batches.map((b) => (
        <Box
          key={b.id}
          bg="sheet"
          border="1px dashed"
          borderColor="thread"
          rounded="sm"
          p="3"
          mb="2"
          data-testid="batch"
        >
          <Button variant="plain" p="0" h="auto" color="indigo" fontSize="md" onClick={() => open(b.id)}>
            {b.name}
          </Button>
          <Text color={b.state === 'failed' ? 'madder' : 'faded'}>
            {stateOf(b)}
            {isOver(b) && b.counts.failed > 0 && `, ${b.counts.failed.toLocaleString('en')} failed`}
          </Text>
          {!isOver(b) && <Progress batch={b} />}
        </Box>
      ))}
    </Box>
  )
}
