import { Box } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Arrange } from './Arrange'
import { Deliver } from './Deliver'
import { Gather } from './Gather'
import { Inspect } from './Inspect'
import { Prove } from './Prove'

/** What there is to set in the current stage. */
export function Worksheet() {
  const stage = useQuilt((q) => q.stage)
  return (
    <Box h="100%" overflowY="auto" p="4" bg="sheet">
      {stage === 'Gather' && <Gather />}
      {stage === 'Inspect' && <Inspect />}
      {stage === 'Even and arrange' && <Arrange />}
      {stage === 'Prove' && <Prove />}
      {stage === 'Deliver' && <Deliver />}
    </Box>
  )
}
