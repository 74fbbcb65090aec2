import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { selectedIslands, useParts } from '../store'
import { NewUvs } from './mend/NewUvs'
import { Choice, Main, Title, Whom } from './parts'

const WAYS = {
  edges: 'by their longest straight edges',
  box: 'by their smallest box',
  up: 'so that up on the model is up',
}

/** Repairs that move islands, and new UVs for what they cannot save. */
export function Mend() {
  const { faults, job, start, setStage, note } = useParts('faults', 'job', 'start', 'setStage', 'note')
  const [way, setWay] = useState<keyof typeof WAYS>('edges')
  const count = (kind: string) => faults.reduce((n, f) => n + (f.kind === kind ? f.count : 0), 0)
  const mend = (action: string) => void start('mend', { action, way, islands: selectedIslands() })
  return (
    <>
      <Title text="What is wrong is put right. Each repair is one step that can be undone.">Mend</Title>
      <Whom />
      <NewUvs />
      <Repair
        name="Flip back"
        text={`Mirrored islands are turned over about their middles. ${count('flipped')} are mirrored.`}
      >
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => mend('flip')}>
          Flip back
        </Button>
      </Repair>
      <Repair
        name="Bring into the tile"
        text={`By whole tiles first; only what is too large is made smaller. ${count('outside') + count('astride')} are outside or astride.`}
      >
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => mend('into_tile')}>
          Bring in
        </Button>
      </Repair>
      <Repair name="Straighten" text="Islands are turned about their middles until they stand straight on the pixels.">
        <Flex mb="1">
          <Choice label="How to straighten" value={way} options={WAYS} set={setWay} />
        </Flex>
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => mend('straighten')}>
          Straighten
        </Button>
      </Repair>
      <Repair
        name="Join split islands"
        text={`Duplicate vertices keep ${count('split')} pairs of islands apart. They count as one then; the vertices of the files stay as they are.`}
      >
        <Button size="xs" variant="outline" disabled={!!job || !count('split')} onClick={() => void start('weld')}>
          Join them
        </Button>
      </Repair>
      <Repair
        name="Twins"
        text={`${count('twins')} pairs lie exactly on each other. Marked, they share their texels on purpose and are packed as one.`}
      >
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || !count('twins')}
          onClick={() => void start('twins', { on: true, islands: selectedIslands() })}
        >
          Mark as twins
        </Button>
      </Repair>
      <Text role="status" color="moss" minH="5" mb="3">
        {note}
      </Text>
      <Main onClick={() => setStage('Even')}>Next: even the density</Main>
    </>
  )
}

function Repair({ name, text, children }: { name: string; text: string; children: React.ReactNode }) {
  return (
    <Box mb="4">
      <Text fontWeight="600">{name}</Text>
      <Text color="faded" fontSize="xs" mb="1">
        {text}
      </Text>
      {children}
    </Box>
  )
}
