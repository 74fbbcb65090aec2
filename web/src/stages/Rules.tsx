import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { selectedIslands, useParts } from '../store'
import { NameField } from './parts'
import { Choice, NumberField, Setting, Whom } from './parts'
import { ROTATIONS, type Rotation } from './rotations'

/** What holds for the selection alone: held where it is, or turning in its own way. */
export function Rules() {
  const { state, selection, select, change, job, start } = useParts(
    'state',
    'selection',
    'select',
    'change',
    'job',
    'start',
  )
  if (!state) return null
  const held = new Set(state.settings.held ?? [])
  const rotations = state.settings.rotations ?? {}
  const keys = [...selection]
  const hold = (on: boolean) => {
    for (const k of keys)
      if (on) held.add(k)
      else held.delete(k)
    void change({ settings: { held: [...held] } })
  }
  const turn = (way: string) => {
    const next = { ...rotations }
    for (const k of keys)
      if (way) next[k] = way
      else delete next[k]
    void change({ settings: { rotations: next } })
  }
  const ways = new Set(keys.map((k) => rotations[k] ?? ''))
  const ruled = [...new Set([...held, ...Object.keys(rotations)])]
  return (
    <Box>
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
              value={(ways.size === 1 ? [...ways][0] : '') as Rotation | ''}
              options={[['', 'as the sheet'], ...ROTATIONS]}
              set={turn}
            />
          </Setting>
        </>
      ) : (
        <Text color="faded" mb="2">
          Select objects or islands to give them rules.
        </Text>
      )}
      <Flex gap="1" mb="3" wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          disabled={!keys.length || !!job}
          onClick={() => void start('alike', { islands: selectedIslands(), mirrored: true })}
        >
          Select all of the same shape
        </Button>
      </Flex>
      <Setting
        name="Apart"
        text="Islands of different materials keep this gap, where it is more than the padding. 0: no wider gap."
      >
        <NumberField
          name="Gap between materials"
          value={state.settings.apart_px ?? 0}
          unit="px"
          least={0}
          most={512}
          set={(apart_px) => void change({ settings: { apart_px } })}
        />
      </Setting>
      <Bunches />
      <Twins />
      {ruled.length > 0 && (
        <Flex gap="1" align="center" mb="2">
          <Text flex="1">
            {held.size} held, {Object.keys(rotations).length} turn in their own way
          </Text>
          <Button size="2xs" variant="ghost" onClick={() => select(ruled, false, true)}>
            Select them
          </Button>
          <Button
            size="2xs"
            variant="ghost"
            disabled={!!job}
            onClick={() => void change({ settings: { held: [], rotations: {} } })}
          >
            Drop all rules
          </Button>
        </Flex>
      )}
    </Box>
  )
}

const ALONE = { '': 'no', loose: 'loosely', strict: 'strictly' }

/** Islands that lie together on the sheet, so that a painter finds them. */
function Bunches() {
  const { state, selection, select, change, job } = useParts('state', 'selection', 'select', 'change', 'job')
  const bunches = state?.settings.bunches ?? []
  const put = (next: typeof bunches) => void change({ settings: { bunches: next } })
  const add = () => {
    let n = bunches.length + 1
    while (bunches.some((b) => b.name === `Bunch ${n}`)) n++
    const taken = bunches.map((b) => ({ ...b, members: b.members.filter((k) => !selection.has(k)) }))
    put([...taken.filter((b) => b.members.length), { name: `Bunch ${n}`, members: [...selection], strict: false }])
  }
  return (
    <Box mb="2">
      <Setting name="Each object a bunch" text="Its islands lie together; strictly: nothing else between them.">
        <Choice
          label="Each object a bunch"
          value={(state?.settings.bunch_objects ?? '') as keyof typeof ALONE}
          options={ALONE}
          disabled={!!job}
          set={(bunch_objects) => void change({ settings: { bunch_objects } })}
        />
      </Setting>
      <Button size="xs" variant="outline" mb="1" disabled={!selection.size || !!job} onClick={add}>
        Bunch the selection
      </Button>
      {bunches.map((b, n) => (
        <Flex key={b.name} align="center" gap="1" mb="1">
          <NameField
            label={`Name of ${b.name}`}
            value={b.name}
            disabled={!!job}
            set={(name) => put(bunches.map((x, k) => (k === n ? { ...x, name } : x)))}
          />
          <Choice
            label={`How ${b.name} lies`}
            value={b.strict ? 'strict' : 'loose'}
            options={{ loose: 'loose', strict: 'strict' }}
            disabled={!!job}
            set={(v) => put(bunches.map((x, k) => (k === n ? { ...x, strict: v === 'strict' } : x)))}
          />
          <Button size="2xs" variant="ghost" onClick={() => select(b.members, false, true)}>
            Show
          </Button>
          <Button
            size="2xs"
            variant="ghost"
            aria-label={`Untie ${b.name}`}
            disabled={!!job}
            onClick={() => put(bunches.filter((_, k) => k !== n))}
          >
            Untie
          </Button>
        </Flex>
      ))}
    </Box>
  )
}

/** Islands that share their texels on purpose. */
function Twins() {
  const { state, job, start, select, selection, note } = useParts(
    'state',
    'job',
    'start',
    'select',
    'selection',
    'note',
  )
  const [mirrored, setMirrored] = useState(false)
  const [anySize, setAnySize] = useState(false)
  const groups = state?.settings.twins ?? []
  const go = (on: boolean) => void start('twins', { on, islands: selectedIslands() })
  return (
    <Box mb="2">
      <Text color="faded" fontSize="xs" mb="1">
        Twins lie exactly on each other and stay so: one of them is packed, the others follow.
      </Text>
      {note && (
        <Text color="moss" role="status">
          {note}
        </Text>
      )}
      <Flex gap="1" wrap="wrap" align="center">
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => go(true)}>
          Mark what lies on each other as twins
        </Button>
        <Button
          size="xs"
          variant="outline"
          disabled={!selection.size || !!job}
          title="Islands of one shape and of one size on the model are laid on the first of them and share its texels"
          onClick={() => void start('stack', { islands: selectedIslands(), mirrored, any_size: anySize })}
        >
          Stack the selection by shape
        </Button>
        <Flex as="label" gap="1" align="center" fontSize="xs">
          <input type="checkbox" checked={mirrored} onChange={(e) => setMirrored(e.target.checked)} />
          <Text>mirror images too</Text>
        </Flex>
        <Flex
          as="label"
          gap="1"
          align="center"
          fontSize="xs"
          title="Their texels are shared by a smaller and a larger surface, so their densities differ"
        >
          <input type="checkbox" checked={anySize} onChange={(e) => setAnySize(e.target.checked)} />
          <Text>other sizes too</Text>
        </Flex>
        {groups.length > 0 && (
          <>
            <Text flex="1">{groups.length} groups of twins</Text>
            <Button size="2xs" variant="ghost" onClick={() => select(groups.flat(), false, true)}>
              Select
            </Button>
            <Button size="2xs" variant="ghost" disabled={!!job} onClick={() => go(false)}>
              Unmark
            </Button>
          </>
        )}
      </Flex>
    </Box>
  )
}
