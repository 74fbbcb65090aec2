import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useParts } from '../../store'
import { counted, plain } from '../../words'

/** Ways to unwrap the same, with what each costs: looked at on the model and the table before one is taken. */
export function Proposals() {
  const { proposals, looked, look, take, state, job } = useParts('proposals', 'looked', 'look', 'take', 'state', 'job')
  // Where the project moved on, they fit no more.
  if (!proposals?.rows.length || !state || (looked === null && state.snapshot !== proposals.base)) return null
  const share = (x: number) => `${(100 * x).toFixed(0)} %`
  return (
    <Box mt="2" role="group" aria-label="Proposals">
      <Text fontSize="xs" color="faded" mb="1">
        Nothing is changed yet. Look at one: the model, the table and all figures show it.
        {!job && proposals.rows.length < 3 && ' Ways that had more seam and no less stretch were left out.'}
      </Text>
      {proposals.rows.map((p) => {
        const on = looked === p.snapshot
        return (
          <Box
            key={p.snapshot}
            role="group"
            aria-label={`Proposal: ${p.name}`}
            p="1.5"
            mb="1"
            bg={on ? 'washed' : undefined}
            border="1px solid"
            borderColor={on ? 'indigo' : 'thread'}
          >
            <Flex align="center" gap="1">
              <Text fontSize="sm" fontWeight="600" flex="1">
                {p.name}
              </Text>
              <Button size="xs" variant="outline" aria-pressed={on} onClick={() => void look(on ? null : p.snapshot)}>
                {on ? 'Back' : 'Look'}
              </Button>
              {on && (
                <Button size="xs" bg="indigo" color="sheet" disabled={!!job} onClick={() => void take()}>
                  Take it
                </Button>
              )}
            </Flex>
            <Text fontSize="xs">
              {counted(p.islands, 'island')}, {plain(p.seam_m, 3)} m of seam
              {p.coverage === null ? '' : `, about ${share(p.coverage)} covered when packed`}
            </Text>
            <Text fontSize="xs" color="faded">
              {share(p.under_1_1)} of the surface unstretched (under 1.1), {share(p.under_1_5)} under 1.5
            </Text>
          </Box>
        )
      })}
    </Box>
  )
}
