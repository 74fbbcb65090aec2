import { Box } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Arrange } from './Arrange'
import { Deliver } from './Deliver'
import { Even } from './Even'
import { Gather } from './Gather'
import { Inspect } from './Inspect'
import { MadeHere } from './MadeHere'
import { Mend } from './Mend'
import { Title } from './parts'
import { Prove } from './Prove'

/** What there is to set in the current stage. */
export function Worksheet() {
  const stage = useQuilt((q) => q.stage)
  const read = useQuilt((q) => !!q.state)
  if (!read)
    return (
      <Box h="100%" p="4" bg="sheet">
        <Title text="Reading the project …">{stage}</Title>
      </Box>
    )
  return (
    <Box h="100%" overflowY="auto" p="4" bg="sheet">
      <MadeHere stage={stage} />
      {stage === 'Gather' && <Gather />}
      {stage === 'Inspect' && <Inspect />}
      {stage === 'Mend' && <Mend />}
      {stage === 'Even' && <Even />}
      {stage === 'Arrange' && <Arrange />}
      {stage === 'Prove' && <Prove />}
      {stage === 'Deliver' && <Deliver />}
    </Box>
  )
}
