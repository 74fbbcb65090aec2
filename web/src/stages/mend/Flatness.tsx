import { Flex } from '@chakra-ui/react'
import { useState } from 'react'
import { asFaces, asPoints } from '../../scene/edges'
import { useParts } from '../../store'
import { Tick } from '../deliver/Extras'
import { Choice } from '../parts'
import { NewUvs } from './NewUvs'
import { Act, Question } from './Question'
import { whom } from './Seams'
import { shownModel } from '../../model/ModelView'

const KEEPS = { both: 'keep angles and sizes', angles: 'keep angles', sizes: 'keep sizes' }
const FROM = {
  plane: 'flat, as it fits best',
  view: 'flat, as it is seen now',
  x: 'flat, from x',
  y: 'flat, from y',
  z: 'flat, from z',
  box: 'from the sides of a box',
  cylinder: 'around a cylinder',
  sphere: 'from inside a sphere',
}
const UPRIGHT = {
  edges: 'by their longest straight edges',
  box: 'by their smallest box',
  up: 'so that up on the model is up',
}

/** How flat things lie: new UVs, laid flat again, straight, or projected. */
export function Flatness({ mend }: { mend: (action: string, way?: string) => void }) {
  const { faults, selection, faces, points, start } = useParts('faults', 'selection', 'faces', 'points', 'start')
  const [keeps, setKeeps] = useState<keyof typeof KEEPS>('both')
  const [held, setHeld] = useState(false)
  const [from, setFrom] = useState<keyof typeof FROM>('plane')
  const [upright, setUpright] = useState<keyof typeof UPRIGHT>('edges')
  const some = selection.size > 0 || faces.size > 0
  const count = (kind: string) => faults.reduce((n, f) => n + (f.kind === kind ? f.count : 0), 0)
  const bad = count('turned') + count('stretch')
  const go = (operation: string, more: Record<string, unknown> = {}) =>
    void start('seams', { operation, ...whom(), ...more })
  return (
    <Question
      name="How flat does it lie?"
      found={
        bad
          ? `${bad} islands are folded or stretched. The weave picture of the model shows where.`
          : 'No island is folded or badly stretched.'
      }
    >
      <NewUvs />
      <Act
        name="Lay flat again"
        text={`The selected islands are flattened as they are cut, where they lie and at their size.${points.size ? ` ${points.size} picked ${points.size === 1 ? 'point stays' : 'points stay'}.` : ''}`}
        disabled={!some && !points.size}
        // With nothing else chosen, what the picked points lie on is meant.
        onClick={() =>
          go('relax', { way: keeps, held, points: asPoints(points), ...(!some && { faces: asFaces(points) }) })
        }
      >
        <Flex mb="1" gap="2" align="center" wrap="wrap">
          <Choice label="What laying flat keeps" value={keeps} options={KEEPS} set={setKeeps} />
          <Tick on={held} set={setHeld}>
            outline stays
          </Tick>
        </Flex>
      </Act>
      <Act
        name="Make rectangles"
        text="Selected strips and grids of quads get straight columns and rows with their true lengths."
        disabled={!some}
        onClick={() => go('square')}
      />
      <Act
        name="Project"
        text="Picked faces, or the selection, are laid out as they are seen from a side, in metres."
        disabled={!some}
        onClick={() => go('project', { way: from, view: from === 'view' ? shownModel.current?.direction() : null })}
      >
        <Flex mb="1">
          <Choice label="How to project" value={from} options={FROM} set={setFrom} />
        </Flex>
      </Act>
      <Act
        name="Straighten"
        text="Islands are turned about their middles until they stand straight on the pixels."
        onClick={() => mend('straighten', upright)}
      >
        <Flex mb="1">
          <Choice label="How to straighten" value={upright} options={UPRIGHT} set={setUpright} />
        </Flex>
      </Act>
    </Question>
  )
}
