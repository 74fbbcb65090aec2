import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useQuilt } from '../store'
import { Choice, Setting, Whom } from './parts'
import { TURNS, type Turn } from './turns'

/** What holds for the selection alone: held where it is, or turning in its own way. */
export function Rules() {
  const { state, selection, select, change, job } = useQuilt()
  if (!state) return null
  const held = new Set(state.settings.held ?? [])
  const turns = state.settings.turns ?? {}
  const keys = [...selection]
  const hold = (on: boolean) => {
    for (const k of keys)
      if (on) held.add(k)
      else held.delete(k)
    void change({ settings: { held: [...held] } })
  }
  const turn = (way: string) => {
    const next = { ...turns }
    for (const k of keys)
      if (way) next[k] = way
      else delete next[k]
    void change({ settings: { turns: next } })
  }
  const ways = new Set(keys.map((k) => turns[k] ?? ''))
  const ruled = [...new Set([...held, ...Object.keys(turns)])]
  return (
    <Box mt="2" pt="3" borderTop="1px dashed" borderColor="thread">
      <Text fontWeight="600">Rules for the selection</Text>
      <Text color="faded" fontSize="xs" mb="2">
        What is held stays where it is, and the rest is packed around it.
      </Text>
      {keys.length ? (
        <>
          <Whom />
          <Flex gap="1" mb="2">
            <Button size="xs" variant="outline" disabled={!!job} onClick={() => hold(true)}>
              Hold in place
            </Button>
            <Button size="xs" variant="outline" disabled={!!job} onClick={() => hold(false)}>
              Let go
            </Button>
          </Flex>
          <Setting name="Turn these" text="In place of what holds for the sheet.">
            <Choice
              label="Turn these"
              disabled={!!job}
              value={(ways.size === 1 ? [...ways][0] : '') as Turn | ''}
              options={[['', 'as the sheet'], ...TURNS]}
              set={turn}
            />
          </Setting>
        </>
      ) : (
        <Text color="faded" mb="2">
          Select objects or islands to give them rules.
        </Text>
      )}
      {ruled.length > 0 && (
        <Flex gap="1" align="center" mb="2">
          <Text flex="1">
            {held.size} held, {Object.keys(turns).length} turn in their own way
          </Text>
          <Button size="2xs" variant="ghost" onClick={() => select(ruled, false, true)}>
            Select them
          </Button>
          <Button
            size="2xs"
            variant="ghost"
            disabled={!!job}
            onClick={() => void change({ settings: { held: [], turns: {} } })}
          >
            Drop all rules
          </Button>
        </Flex>
      )}
    </Box>
  )
}
