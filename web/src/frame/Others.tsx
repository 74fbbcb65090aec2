import { Box, Button, Flex, Popover, Portal, Text } from '@chakra-ui/react'
import { useEffect } from 'react'
import { api } from '../api/client'
import { listen, useEvents, type AtWork } from '../events'

/** Work of other projects, in the bar. */
export function Others({ but }: { but: number }) {
  const rows = useEvents((e) => e.work).filter((r) => r.project !== but)
  if (!rows.length) return null
  return (
    <Popover.Root positioning={{ placement: 'bottom-end' }}>
      <Popover.Trigger asChild>
        <Button size="xs" variant="ghost">
          {rows.length} more at work
        </Button>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content bg="sheet" color="ink" w="340px">
            <Popover.Body>
              <Rows rows={rows} />
            </Popover.Body>
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  )
}

/** What is being done in all projects, on the start page. */
export function AllWork() {
  useEffect(() => listen(null), [])
  const rows = useEvents((e) => e.work)
  if (!rows.length) return null
  return (
    <Box mb="4" role="region" aria-label="At work">
      <Rows rows={rows} />
    </Box>
  )
}

function Rows({ rows }: { rows: AtWork[] }) {
  return rows.map((r) => (
    <Flex key={r.id} align="center" gap="2" py="1">
      <Box flex="1" minW="0">
        <Text fontWeight="600" truncate>
          {r.name}
        </Text>
        <Text color="faded" fontSize="xs" truncate>
          {r.text}
          {r.part == null ? '' : `, ${(100 * r.part).toFixed(0)} %`}, {r.seconds.toFixed(0)} s
        </Text>
      </Box>
      <Button
        size="xs"
        variant="outline"
        aria-label={`Stop the work of ${r.name}`}
        onClick={() => void api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: r.id } } })}
      >
        Stop
      </Button>
    </Flex>
  ))
}
