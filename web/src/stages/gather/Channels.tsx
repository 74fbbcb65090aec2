import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { asFaces } from '../../scene/edges'
import { objectsOf } from '../../scene/saving'
import { useParts } from '../../store'
import { CHANNELS, Choice, NumberField, numbered, TextField } from '../parts'

const WHAT = {
  light: 'a light map',
  copy: 'a copy of the layout',
  project: 'a projection',
  unwrap: 'new UVs',
}
const DOES = {
  light: 'every surface once, at one density, apart by whole texels; each object has the square for itself.',
  copy: 'the UVs as they lie now. Everything else has none there. Read that channel to go on with it.',
  project: 'flat, from where it fits best. Everything else has none there. Read that channel to go on with it.',
  unwrap: 'cut and laid flat. Everything else has none there. Read that channel to go on with it.',
}
const SIZES = [32, 64, 128, 256, 512, 1024, 2048]

/** Which object has which UV channels, and a further one made beside them. */
export function Channels() {
  const { state, selection, faces, start, job, note, change } = useParts(
    'state',
    'selection',
    'faces',
    'start',
    'job',
    'note',
    'change',
  )
  const [what, setWhat] = useState<keyof typeof WHAT>('light')
  const [into, setInto] = useState<number | null>(null)
  const [px, setPx] = useState(256)
  const [texels, setTexels] = useState(2)
  if (!state?.files.length) return null
  const now = state.settings.channel_in ?? 0
  const free = CHANNELS.filter((c) => c !== now)
  const to = into ?? Math.min(7, Math.max(now, ...state.channels) + 1)
  const chosen = objectsOf(state, selection)
  const whom =
    faces.size && what !== 'light'
      ? `${faces.size} picked faces`
      : chosen.length
        ? `${chosen.length} selected`
        : 'all objects'
  const has = (c: number) => state.objects.filter((o) => o.channels.includes(c))
  const make = () =>
    void start('further', {
      into: to,
      what,
      objects: chosen.length ? chosen : null,
      ...(what !== 'light' && faces.size ? { faces: asFaces(faces) } : {}),
      px,
      texels,
    })
  return (
    <Box as="section" aria-label="UV channels" mt="4" pt="2" borderTop="1px dashed" borderColor="thread">
      <Text fontWeight="600">UV channels</Text>
      {state.channels.map((c) => (
        <Flex key={c} fontSize="xs" gap="2" align="center" mb="0.5">
          <Text
            flex="1"
            color="faded"
            title={has(c)
              .map((o) => o.name)
              .join(', ')}
          >
            Channel {c}
            {c === now ? ', worked on' : ''}: {has(c).length === state.objects.length ? 'all objects' : names(has(c))}
          </Text>
          <TextField
            label={`What channel ${c} is called`}
            placeholder="name"
            wide={84}
            value={state.settings.channel_names?.[c] ?? ''}
            set={(name) => void change({ settings: { channel_names: renamed(state.settings.channel_names, c, name) } })}
          />
          {c !== now && (
            <Button
              size="2xs"
              variant="ghost"
              disabled={!!job}
              aria-label={`Take channel ${c} off`}
              title="What was made here in this channel goes; what came with the files stays"
              onClick={() => void start('further', { into: c, what: 'drop' })}
            >
              ×
            </Button>
          )}
        </Flex>
      ))}
      <Text fontSize="xs" color="faded" mt="2" mb="1">
        Of {whom}: {DOES[what]}
      </Text>
      <Flex gap="1" wrap="wrap" align="center" fontSize="xs" mb="1">
        <Choice label="What a further channel holds" value={what} options={WHAT} set={setWhat} />
        <Text>in</Text>
        <Choice
          label="Further channel"
          value={String(to)}
          options={numbered(free, (c) => `channel ${c}`)}
          set={(c) => setInto(Number(c))}
        />
      </Flex>
      {what === 'light' && (
        <Flex gap="1" wrap="wrap" align="center" fontSize="xs" mb="1">
          <Choice
            label="Size of the light map"
            value={String(px)}
            options={numbered(SIZES, (n) => `${n} px`)}
            set={(n) => setPx(Number(n))}
          />
          <NumberField
            name="Texels between islands"
            value={texels}
            unit="texels apart"
            least={0}
            most={px / 4 - 1}
            set={setTexels}
          />
        </Flex>
      )}
      <Button size="xs" variant="outline" disabled={!!job} onClick={make}>
        Make the channel
      </Button>
      <Text role="status" color="moss" fontSize="xs" minH="4">
        {note}
      </Text>
    </Box>
  )
}

/** The names of channels with another one; an empty one is none. */
function renamed(names: Record<string, string> | undefined, channel: number, name: string): Record<string, string> {
  const out = Object.fromEntries(Object.entries(names ?? {}).filter(([c]) => Number(c) !== channel))
  return name ? { ...out, [channel]: name } : out
}

/** A few names, and how many more. */
function names(objects: { name: string }[]): string {
  const few = objects.slice(0, 4).map((o) => o.name)
  return few.join(', ') + (objects.length > few.length ? ` and ${objects.length - few.length} more` : '')
}
