import { Box, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { objectsOf } from '../../scene/saving'
import { useParts, useQuilt, type Dirty } from '../../store'
import { counted, DIRT } from '../../words'
import { Tick } from '../deliver/Extras'
import { Act, Question } from './Question'

/** What is wrong with the meshes themselves: counted, and picked on the model by a click. */
export function Dirt() {
  const { state, selection, start, dirty } = useParts('state', 'selection', 'start', 'dirty')
  const [merged, setMerged] = useState(false)
  const [holes, setHoles] = useState(false)
  if (!state) return null
  const chosen = objectsOf(state, selection)
  const rows = dirty?.base === state.snapshot ? dirty.rows : null
  const what = Object.keys(DIRT).filter((k) => (k !== 'merged' || merged) && (k !== 'holes' || holes))
  // Vertices that normals or UVs part are twice in many formats, on purpose.
  const bad = rows?.filter((r) => Object.keys(r.counts).some((k) => k !== 'merged')) ?? []
  return (
    <Question
      name="Are the meshes clean?"
      found={
        rows
          ? bad.length
            ? `${bad.length} of ${counted(rows.length, 'mesh', 'meshes')} could be cleaned: now, before they are unwrapped, or in Deliver where files are written anew.`
            : `${rows.length} ${rows.length === 1 ? 'mesh is' : 'meshes are'} clean.`
          : 'Nothing of a mesh is changed until you say so.'
      }
    >
      <Act
        name={chosen.length ? 'Look at the selected meshes' : 'Look at all meshes'}
        text="Duplicate vertices and faces, faces without area or wound the other way, small holes, open borders, loose parts."
        onClick={() => void start('dirt', { objects: chosen.length ? chosen : null })}
      >
        {!!rows?.length && (
          <Box maxH="200px" overflowY="auto" mb="2" role="list" aria-label="What could be cleaned">
            {rows.map((r) => (
              <Row key={r.key} row={r} />
            ))}
          </Box>
        )}
      </Act>
      {rows?.some((r) => Object.keys(r.counts).length) && (
        <Act
          name={chosen.length ? 'Clean the selected meshes' : 'Clean all meshes'}
          text="For good: their files are written anew in their own format, and go on from there. One step that can be undone."
          disabled={!rows.some((r) => what.some((k) => r.counts[k]))}
          onClick={() => void start('clean', { objects: chosen.length ? chosen : null, what })}
        >
          <Tick on={merged} set={setMerged}>
            <Text fontSize="xs">Merge duplicate vertices, too</Text>
          </Tick>
          <Tick on={holes} set={setHoles}>
            <Text fontSize="xs">Close small holes, too, where the UVs around close</Text>
          </Tick>
        </Act>
      )}
    </Question>
  )
}

function Row({ row }: { row: Dirty['rows'][number] }) {
  const pick = (kind: string) => {
    const q = useQuilt.getState()
    const [file, object] = row.key.split('/').map(Number)
    q.select([row.key], false, true)
    const faces = row.faces[kind]
    if (!faces?.length) return
    q.setPicks('faces')
    q.pickNothing()
    q.pickFaces(faces.map((triangle) => ({ file, object, triangle })))
  }
  return (
    <Box role="listitem" fontSize="xs" mb="1">
      <Flex justify="space-between" gap="2">
        <Text cursor="pointer" title="Select it" onClick={() => pick('')} truncate>
          {row.name}
        </Text>
        <Text color="faded" whiteSpace="nowrap">
          {row.borders ? `${row.borders} open ${row.borders === 1 ? 'border' : 'borders'}` : 'closed'}
          {row.parts > 1 && (
            <Text
              as="span"
              cursor="pointer"
              title="Pick what does not hang together with the largest part"
              onClick={() => pick('loose')}
            >
              , {row.parts} parts
            </Text>
          )}
        </Text>
      </Flex>
      {Object.entries(row.counts).map(([kind, n]) => (
        <Text
          key={kind}
          color={kind === 'merged' ? 'faded' : 'madder'}
          cursor="pointer"
          title={row.faces[kind] ? 'Pick them on the model' : 'Select the object'}
          onClick={() => pick(kind)}
        >
          {n.toLocaleString('en')} {DIRT[kind]}
        </Text>
      ))}
    </Box>
  )
}
