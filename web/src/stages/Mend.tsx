import { Text } from '@chakra-ui/react'
import { selectedIslands, useParts } from '../store'
import { ByHand } from './mend/ByHand'
import { Copies } from './mend/Copies'
import { Dirt } from './mend/Dirt'
import { Flatness } from './mend/Flatness'
import { Act, Question } from './mend/Question'
import { Ready } from './mend/Ready'
import { Seams, whom } from './mend/Seams'
import { Main, Title, Whom } from './parts'
import { counted } from '../words'

/** What is wrong is put right: the whole way at once, or question by question. */
export function Mend() {
  const { faults, start, setStage, note, selection } = useParts('faults', 'start', 'setStage', 'note', 'selection')
  const count = (kind: string) => faults.reduce((n, f) => n + (f.kind === kind ? f.count : 0), 0)
  const mend = (action: string, way?: string) => void start('mend', { action, way, islands: selectedIslands() })
  const double = count('overlap') + count('self_overlap')
  return (
    <>
      <Title text="What is wrong is put right. Each repair is one step that can be undone.">Mend</Title>
      <Ready />
      <Text role="status" color="moss" minH="5">
        {note}
      </Text>
      <Whom />
      <Seams />
      <ByHand />
      <Flatness mend={mend} />
      <Question
        name="What lies double?"
        found={double ? `${double} times texels are shared.` : 'No islands share texels by accident.'}
      >
        <Act
          name="Part them"
          text="Selected islands that overlap themselves are cut where it is shortest, so that each part lies free."
          disabled={!selection.size}
          onClick={() => void start('seams', { operation: 'part', ...whom() })}
        />
        <Act
          name="Flip back"
          text={`Mirrored islands are turned over about their middles. ${counted(count('flipped'), 'is', 'are')} mirrored.`}
          onClick={() => mend('flip')}
        />
        <Act
          name="Bring in"
          text={`Into the tile, by whole tiles first; only what is too large is made smaller. ${counted(count('outside') + count('astride'), 'is', 'are')} outside or astride.`}
          onClick={() => mend('into_tile')}
        />
      </Question>
      <Dirt />
      <Copies twins={count('twins')} />
      <Main onClick={() => setStage('Even')}>Next: even the density</Main>
    </>
  )
}
