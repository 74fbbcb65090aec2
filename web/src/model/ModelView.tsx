import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useRef, useState } from 'react'
import { useQuilt } from '../store'
import { Model } from './model'

/** The objects in space, with the checker or their cloth colours. */
export function ModelView() {
  const host = useRef<HTMLDivElement>(null)
  const model = useRef<Model>(null)
  const pieces = useQuilt((q) => q.pieces)
  const drawn = useQuilt((q) => q.drawn)
  const fitted = useQuilt((q) => q.fitted)
  const map = useQuilt((q) => q.state?.settings.map_px ?? 2048)
  const [checker, setChecker] = useState(true)
  useEffect(() => {
    const m = new Model(host.current!, (hit, add) => {
      useQuilt.getState().select(hit ? [`${hit.file}/${hit.object}`] : [], add)
    })
    model.current = m
    return () => m.dispose()
  }, [])
  useEffect(() => model.current?.setPieces(pieces), [pieces])
  useEffect(() => model.current?.draw(), [drawn])
  useEffect(() => model.current?.fit(), [fitted])
  useEffect(() => model.current?.setChecker(checker, map / 64), [checker, map, pieces])
  return (
    <Box position="relative" h="100%" bg="paper">
      <Box ref={host} position="absolute" inset="0" data-testid="model" />
      <Flex position="absolute" top="2" left="3" gap="2" align="center" pointerEvents="none">
        <Text color="faded">
          {checker ? 'Model, one checker square is 64 px of the map' : 'Model, one cloth for each object'}
        </Text>
      </Flex>
      <Button position="absolute" top="1" right="2" size="xs" variant="ghost" onClick={() => setChecker(!checker)}>
        {checker ? 'Show cloth' : 'Show checker'}
      </Button>
    </Box>
  )
}
