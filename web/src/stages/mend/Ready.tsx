import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { useParts } from '../../store'
import { Said } from '../Said'
import { Tick } from '../deliver/Extras'
import { Main } from '../parts'

const DID: Record<string, string> = {
  clean: 'mesh cleaned',
  relax: 'laid flat again',
  unwrap: 'new UVs',
  part: 'parted where it lay double',
  flip: 'flipped back',
  twins: 'twins marked',
}

/** The whole way at once, and what it did to which object. */
export function Ready() {
  const { state, faults, job, start, readied } = useParts('state', 'faults', 'job', 'start', 'readied')
  const [twins, setTwins] = useState(false)
  const [clean, setClean] = useState(true)
  if (!state) return null
  const against = faults.find((f) => f.repair === 'clean')
  return (
    <Box mb="2">
      <Text color="faded" fontSize="xs" mb="1">
        What is good stays. The rest is laid flat or cut anew, mirrored islands are flipped back, densities evened,
        everything packed and proven: one step.
      </Text>
      <Tick on={twins} set={setTwins}>
        <Text fontSize="xs">Islands that lie exactly on each other stay so, as twins</Text>
      </Tick>
      {against && (
        <Tick on={clean} set={setClean}>
          <Text fontSize="xs">Clean the meshes first: {against.title}, so they would fall into many more islands</Text>
        </Tick>
      )}
      <Main
        disabled={!!job || !state.objects.length}
        onClick={() => void start('ready', { twins, clean: !!against && clean })}
      >
        Make it ready
      </Main>
      {readied && <Outcome />}
    </Box>
  )
}

function Outcome() {
  const { readied, select } = useParts('readied', 'select')
  if (!readied) return null
  const stays = readied.objects.filter((o) => o.left.length)
  const touched = readied.objects.filter((o) => o.done.length || o.left.length || o.refused.length)
  return (
    <Box mt="2" fontSize="xs">
      <Said line={readied.verdict} grade={readied.grade} reasons={readied.reasons} />
      <Text color="faded">
        {touched.length
          ? `${touched.length} of ${readied.objects.length} objects ${touched.length === 1 ? 'was' : 'were'} changed:`
          : 'No object had to be changed.'}
      </Text>
      <Box as="ul" aria-label="What was done" maxH="180px" overflowY="auto" listStyleType="none">
        {touched.map((o, n) => (
          <Box as="li" key={n} borderBottom="1px dashed" borderColor="thread" py="0.5">
            <Text as="span" fontWeight="600">
              {o.name}
            </Text>{' '}
            {o.done.map((d) => DID[d] ?? d).join(', ')}
            <Text as="span" color="faded">
              {' '}
              {before(o.was)}
            </Text>
            {[...o.refused.map((r) => r.why), ...o.left].map((why) => (
              <Text key={why} color="madder">
                {why}
              </Text>
            ))}
          </Box>
        ))}
      </Box>
      {stays.length > 0 && (
        <Flex mt="1" gap="2" align="center" role="note" aria-label="What stays">
          <Text flex="1" color="madder">
            {stays.length === 1 ? `${stays[0].name} is left` : `${stays.length} objects are left`}: unwrap{' '}
            {stays.length === 1 ? 'it' : 'them'} with less stretch allowed, or cut where it folds.
          </Text>
          <Button
            size="2xs"
            variant="outline"
            onClick={() =>
              select(
                stays.map((o) => o.key),
                false,
                true,
              )
            }
          >
            Show
          </Button>
        </Flex>
      )}
    </Box>
  )
}

/** What was wrong with an object before. */
function before(was: { without_uvs: number; folded: number; overlapping: number }): string {
  const all = [
    was.without_uvs && 'no UVs',
    was.folded && `${was.folded} folded`,
    was.overlapping && `${was.overlapping} over themselves`,
  ]
  const found = all.filter((x) => x)
  return found.length ? `(it had ${found.join(', ')})` : ''
}
