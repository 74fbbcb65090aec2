import { Box, Button, Flex, Popover, Portal, Text } from '@chakra-ui/react'
import { useCallback, useEffect, useState } from 'react'
import { api } from '../api/client'
import type { components } from '../api/schema'

type Row = components['schemas']['AtWork']
const OFTEN = 2000 // ms

/** What is being done in projects other than one, looked at every other second. */
function useOthers(but: number | null): [rows: Row[], look: () => void] {
  const [rows, setRows] = useState<Row[]>([])
  const look = useCallback(() => {
    if (document.hidden) return
    api.GET('/api/jobs').then(
      ({ data }) => setRows((data ?? []).filter((r) => r.project !== but)),
      () => setRows([]), // an application that does not answer is told of where it is asked for something
    )
  }, [but])
  useEffect(() => {
    look()
    const timer = setInterval(look, OFTEN)
    return () => clearInterval(timer)
  }, [look])
  return [rows, look]
}

/** Work of other projects, in the bar. */
export function Others({ but }: { but: number }) {
  const [rows, look] = useOthers(but)
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
              <Rows rows={rows} look={look} />
            </Popover.Body>
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  )
}

/** What is being done in all projects, on the start page. */
export function AllWork() {
  const [rows, look] = useOthers(null)
  if (!rows.length) return null
  return (
    <Box mb="4" role="region" aria-label="At work">
      <Rows rows={rows} look={look} />
    </Box>
  )
}

function Rows({ rows, look }: { rows: Row[]; look: () => void }) {
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
        onClick={() => void api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: r.id } } }).then(look)}
      >
        Stop
      </Button>
    </Flex>
  ))
}
