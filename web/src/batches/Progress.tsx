import { Box } from '@chakra-ui/react'
import { Thread } from '../frame/Thread'
import type { Batch } from './batches'

/** How much of a batch is done. */
export function Progress({ batch: b }: { batch: Batch }) {
  return (
    <Box bg="fold">
      <Thread part={b.total ? b.done / b.total : 0} name={`Done of ${b.name}`} />
    </Box>
  )
}
