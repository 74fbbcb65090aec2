import { Button, Flex, Text } from '@chakra-ui/react'
import { flatOf, withRecipe } from '../../scene/sheets'
import { useParts } from '../../store'
import { perMetre } from '../../words'

/** A density that packing has to hold, where it acts, and the way out of it. */
export function Held({ sheet }: { sheet: number }) {
  const { state, job, change } = useParts('state', 'job', 'change')
  if (!state) return null
  const s = flatOf(state.settings, sheet)
  if (!s.hold) return null
  return (
    <Flex align="center" gap="1" mt="1" fontSize="xs" role="group" aria-label="Density that is held">
      <Text flex="1">Holds {perMetre(s.density)}: what does not fit at it is named.</Text>
      <Button
        size="2xs"
        variant="outline"
        disabled={!!job}
        onClick={() => void change({ settings: withRecipe(state.settings, s.sheet, { hold: false }) })}
      >
        As dense as fits
      </Button>
    </Flex>
  )
}
