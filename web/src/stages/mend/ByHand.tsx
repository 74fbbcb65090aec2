import { Button, Flex, Text } from '@chakra-ui/react'
import { useParts, useQuilt } from '../../store'
import { Tick } from '../deliver/Extras'
import { NumberField } from '../parts'
import { Question } from './Question'

const LINES = { row: 'In a row', column: 'In a column', line: 'On a line' } as const

/** Points of islands dragged, lined up, welded and parted; and the brush. */
export function ByHand() {
  const { points, picks, setPicks, hand } = useParts('points', 'picks', 'setPicks', 'hand')
  const found = points.size
    ? `${points.size} ${points.size === 1 ? 'point is' : 'points are'} picked: drag one on the table.`
    : 'Points are dragged on the table, the brush goes over the table or the model.'
  const mode = (wanted: 'points' | 'brush', name: string) => (
    <Button
      size="xs"
      variant="outline"
      {...(picks === wanted && { bg: 'indigo', color: 'sheet' })}
      aria-pressed={picks === wanted}
      title="E"
      onClick={() => setPicks(picks === wanted ? 'objects' : wanted)}
    >
      {name}
    </Button>
  )
  return (
    <Question name="What should the hand change?" found={found}>
      <Flex gap="1" mb="2">
        {mode('points', 'Points on the table')}
        {mode('brush', 'Relax by brush')}
      </Flex>
      {picks === 'points' && <PointTools />}
      {picks === 'brush' && <BrushTools />}
      {picks === 'points' && hand.refuse && (
        <Text fontSize="xs" color="faded">
          What would fold is marked red while it is dragged, and is not done.
        </Text>
      )}
    </Question>
  )
}

function PointTools() {
  const { points, job, hand, setHand } = useParts('points', 'job', 'hand', 'setHand')
  const q = useQuilt.getState
  const off = !!job || !points.size
  return (
    <>
      <Flex align="center" gap="1" fontSize="xs" mb="1">
        <Text>others follow within</Text>
        <NumberField
          name="Reach of points"
          value={hand.reach}
          unit="px"
          least={0}
          most={4096}
          set={(reach) => setHand({ reach })}
        />
      </Flex>
      <Tick on={hand.refuse} set={(refuse) => setHand({ refuse })}>
        <Text fontSize="xs">Refuse what folds or overlaps</Text>
      </Tick>
      <Flex gap="1" wrap="wrap" mb="2">
        {(Object.entries(LINES) as [keyof typeof LINES, string][]).map(([how, name]) => (
          <Button
            key={how}
            size="xs"
            variant="outline"
            disabled={!!job || points.size < 2}
            onClick={() => void q().arrangePoints('line', how)}
          >
            {name}
          </Button>
        ))}
        <Button
          size="xs"
          variant="outline"
          disabled={off}
          title="Cut the edges between them"
          onClick={() => void q().arrangePoints('part')}
        >
          Part
        </Button>
      </Flex>
      <Flex gap="1" align="center" fontSize="xs" mb="2">
        <Button
          size="xs"
          variant="outline"
          disabled={off}
          title="With their other sides; edges between are sewn"
          onClick={() => void q().arrangePoints('weld')}
        >
          Weld
        </Button>
        <Text>from under</Text>
        <NumberField
          name="Weld from under"
          value={hand.near}
          unit="px"
          least={0.01}
          most={4096}
          set={(near) => setHand({ near })}
        />
      </Flex>
      <Flex gap="1" wrap="wrap" mb="2">
        <Button size="xs" variant="ghost" disabled={off} title="B" onClick={() => q().pickBorder()}>
          Border too
        </Button>
        <Button
          size="xs"
          variant="ghost"
          disabled={off}
          title="R: again and again, until it lies well"
          onClick={() => void q().ease()}
        >
          Ease them
        </Button>
      </Flex>
    </>
  )
}

function BrushTools() {
  const { hand, setHand, points } = useParts('hand', 'setHand', 'points')
  return (
    <>
      <Text fontSize="xs" color="faded" mb="2">
        Drag over an island. Shift and the wheel: size; Alt and the wheel: strength. The weave picture of the model
        shows the stretch.
        {points.size ? ` ${points.size} picked ${points.size === 1 ? 'point stays' : 'points stay'}.` : ''}
      </Text>
      <Flex align="center" gap="1" fontSize="xs" mb="1" wrap="wrap">
        <NumberField
          name="Size of the brush"
          value={Math.round(hand.size)}
          unit="px"
          least={4}
          most={400}
          set={(size) => setHand({ size })}
        />
        <NumberField
          name="Strength of the brush"
          value={Math.round(100 * hand.strength)}
          unit="%"
          least={5}
          most={100}
          set={(n) => setHand({ strength: n / 100 })}
        />
      </Flex>
      <Tick on={hand.held} set={(held) => setHand({ held })}>
        <Text fontSize="xs">Outlines stay</Text>
      </Tick>
    </>
  )
}
