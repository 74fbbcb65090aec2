import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { objectsOf } from '../../scene/saving'
import { selectedIslands, useParts, type Alike } from '../../store'
import { Tick } from '../deliver/Extras'
import { Choice } from '../parts'
import { Act, Question } from './Question'
import { plain } from '../../words'

const WHERE = { beside: 'in places of their own', onto: 'on the same texels, as twins' }

/** Objects of one shape: found, given the UVs of the good one, and kept alike. */
export function Copies({ twins }: { twins: number }) {
  const { state, start, selection, alike } = useParts('state', 'start', 'selection', 'alike')
  const [where, setWhere] = useState<keyof typeof WHERE>('beside')
  const [linked, setLinked] = useState(false)
  if (!state) return null
  const chosen = objectsOf(state, selection)
  const found = alike?.base === state.snapshot ? alike.groups : null
  return (
    <Question name="What can be copied?" found={`${twins} pairs of islands lie exactly on each other.`}>
      <Act
        name="Find objects of one shape"
        text="Whatever their names, places, turns, sizes and order of vertices, and their mirror images."
        onClick={() => void start('shapes')}
      >
        {found && <Groups groups={found} />}
      </Act>
      <Act
        name="Give UVs to copies"
        text={
          chosen.length > 1
            ? `Of the ${chosen.length} selected objects the one that lies best gives its UVs to the others, to those with other triangles by the nearest surface.`
            : 'Every object of the shape of the selected one gets its UVs.'
        }
        disabled={!chosen.length}
        onClick={() => void start('copies', { objects: chosen, onto: where === 'onto', linked })}
      >
        <Flex mb="1" gap="1" align="center" fontSize="xs">
          <Text>lying</Text>
          <Choice label="Where copies lie" value={where} options={WHERE} set={setWhere} />
        </Flex>
        <Tick on={linked} set={setLinked}>
          <Text fontSize="xs">Keep them alike: a later change of one is made to all</Text>
        </Tick>
      </Act>
      <Links />
      <Act
        name="Mark as twins"
        text="Marked, they share their texels on purpose and are packed as one."
        disabled={!twins}
        onClick={() => void start('twins', { on: true, islands: selectedIslands() })}
      />
    </Question>
  )
}

/** Groups of one shape; a click selects one. */
function Groups({ groups }: { groups: Alike['groups'] }) {
  const { select } = useParts('select')
  if (!groups.length)
    return (
      <Text fontSize="xs" mb="1">
        No two objects are of one shape.
      </Text>
    )
  return (
    <Box maxH="160px" overflowY="auto" mb="2" role="list" aria-label="Objects of one shape">
      {groups.map((g) => (
        <Flex
          key={g.objects[0]}
          role="listitem"
          gap="2"
          fontSize="xs"
          cursor="pointer"
          _hover={{ bg: 'fold' }}
          title="Select them"
          onClick={() => select(g.objects, false, true)}
        >
          <Text flex="1" truncate>
            {g.name}
          </Text>
          <Text whiteSpace="nowrap">{g.objects.length} objects</Text>
          <Text whiteSpace="nowrap" color="faded">
            {away(g.away_m)}
          </Text>
        </Flex>
      ))}
    </Box>
  )
}

/** How far copies are from being the same. */
export function away(metres: number): string {
  const mm = 1000 * metres
  return mm < 0.001 ? 'the same' : `${plain(mm, 2)} mm apart at most`
}

/** Which objects follow each other. */
function Links() {
  const { state, change, select } = useParts('state', 'change', 'select')
  const links = state?.settings.links ?? []
  if (!state || !links.length) return null
  const name = (key: string) => state.objects.find((o) => o.key === key)?.name ?? key
  return (
    <Box mb="3" role="list" aria-label="Linked copies">
      {links.map((link) => (
        <Flex key={link.members[0]} role="listitem" gap="2" align="center" fontSize="xs">
          <Text flex="1" cursor="pointer" title="Select them" onClick={() => select(link.members, false, true)}>
            {name(link.members[0])} and {link.members.length - 1} more are kept alike
            {link.onto ? ' on the same texels' : ''}
          </Text>
          <Button
            size="xs"
            variant="ghost"
            aria-label={`Let ${name(link.members[0])} and its copies go`}
            onClick={() => void change({ settings: { links: links.filter((x) => x !== link) } })}
          >
            Let go
          </Button>
        </Flex>
      ))}
    </Box>
  )
}
