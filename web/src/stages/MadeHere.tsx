import { Box, Button, Flex, Link, Text } from '@chakra-ui/react'
import type { Made } from '../api/client'
import { useParts, type Stage } from '../store'

const KINDS: Record<string, { stage: Stage; name: string; file?: string }> = {
  save: { stage: 'Gather', name: 'Saved project', file: 'saved' },
  compare: { stage: 'Gather', name: 'Comparison of two versions' },
  dirt: { stage: 'Inspect', name: 'Mesh check' },
  propose: { stage: 'Mend', name: 'Ways to unwrap' },
  ready: { stage: 'Mend', name: 'Make it ready: result' },
  seam_worth: { stage: 'Mend', name: 'Seam ratings' },
  shapes: { stage: 'Mend', name: 'Objects of one shape' },
  explain: { stage: 'Arrange', name: 'What would help' },
  bake: { stage: 'Prove', name: 'Test bake', file: 'baked.zip' },
  deliver: { stage: 'Deliver', name: 'Delivery', file: 'output' },
}

/** A moment as people say it: the time of today, else the day. */
function moment(iso: string): string {
  const at = new Date(iso)
  return at.toDateString() === new Date().toDateString()
    ? at.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' })
    : at.toLocaleDateString()
}

/** What work left for a stage: files to fetch again, and what belongs to an earlier state of the project. */
export function MadeHere({ stage }: { stage: Stage }) {
  const { made, drop, state } = useParts('made', 'drop', 'state')
  // What is of the present state stands where it was asked for; only its files are offered once more.
  const here = made.filter((m) => KINDS[m.job.kind]?.stage === stage && (m.stale || KINDS[m.job.kind].file))
  if (!here.length) return null
  return (
    <Box mb="3" role="group" aria-label="Made earlier">
      {here.map((m) => (
        <Row key={m.job.id} made={m} drop={state?.may_change === false ? undefined : () => void drop(m)} />
      ))}
    </Box>
  )
}

function Row({ made, drop }: { made: Made; drop?: () => void }) {
  const { name, file } = KINDS[made.job.kind]
  return (
    <Flex align="center" gap="2" py="1" borderBottom="1px dashed" borderColor="thread">
      <Box flex="1" minW="0" fontSize="sm">
        <Text>
          {name}, {moment(made.made)}
        </Text>
        {made.stale && (
          <Text color="madder" fontSize="xs">
            stale: the project changed since
          </Text>
        )}
      </Box>
      {file && (
        <Link
          href={`/api/jobs/${made.job.id}/${file}`}
          download
          fontSize="sm"
          color="indigo"
          textDecoration="underline"
        >
          Download
        </Link>
      )}
      {drop && (
        <Button size="2xs" variant="ghost" aria-label={`Drop: ${name}`} onClick={drop}>
          Drop
        </Button>
      )}
    </Flex>
  )
}
