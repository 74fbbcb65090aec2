import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useRef } from 'react'
import { useQuilt } from '../store'
import { Table } from './table'

/** The sheet with its tile and islands. */
export function TableView() {
  const host = useRef<HTMLDivElement>(null)
  const table = useRef<Table>(null)
  const pieces = useQuilt((q) => q.pieces)
  const drawn = useQuilt((q) => q.drawn)
  const fitted = useQuilt((q) => q.fitted)
  const fit = useQuilt((q) => q.fit)
  useEffect(() => {
    const t = new Table(host.current!, (hit, add) => {
      useQuilt.getState().select(hit ? [`${hit.file}/${hit.object}`] : [], add)
    })
    table.current = t
    return () => t.dispose()
  }, [])
  useEffect(() => table.current?.setPieces(pieces), [pieces])
  useEffect(() => table.current?.draw(), [drawn])
  useEffect(() => table.current?.fit(), [fitted])
  return (
    <Box position="relative" h="100%" bg="paper">
      <Box ref={host} position="absolute" inset="0" data-testid="table" />
      <Flex position="absolute" top="2" left="3" gap="3" align="center" pointerEvents="none">
        <Text color="faded">Sheet, tile 1001</Text>
      </Flex>
      <Button position="absolute" top="1" right="2" size="xs" variant="ghost" title="Show everything (F)" onClick={fit}>
        Fit
      </Button>
    </Box>
  )
}
