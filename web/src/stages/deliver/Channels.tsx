import { Button, Flex, Text } from '@chakra-ui/react'
import { titles, useFormats } from '../../api/formats'
import { useParts } from '../../store'
import { Section } from '../arrange/Section'
import { Choice, TextField } from '../parts'
import type { Channel } from './order'

interface Given {
  channels: Channel[]
  set: (channels: Channel[]) => void
}

/** The UV channels of the new files, one after the other. */
export function Channels({ channels, set }: Given) {
  const { state } = useParts('state')
  const formats = useFormats()
  const to = state?.settings.channel_out ?? 0
  const old = state?.channels ?? []
  const sources = [['layout', 'the layout'] as const, ...old.map((c) => [String(c), `old channel ${c}`] as const)]
  const begin = () => {
    const count = Math.max(to, ...old) + 1
    const all = Array.from({ length: count }, (_, c): Channel => ({
      from: c === to ? 'layout' : c,
      name: state?.settings.channel_names?.[c] ?? '',
    }))
    set(all.filter((c) => c.from === 'layout' || old.includes(c.from)))
  }
  const put = (k: number, part: Partial<Channel>) => set(channels.map((c, n) => (n === k ? { ...c, ...part } : c)))
  const layouts = channels.filter((c) => c.from === 'layout').length
  return (
    <Section name="UV channels">
      {!channels.length && (
        <Flex align="center">
          <Text flex="1" fontSize="xs" color="faded">
            As they are, with the layout in channel {to}.
          </Text>
          <Button size="2xs" variant="outline" onClick={begin}>
            Arrange them
          </Button>
        </Flex>
      )}
      {channels.map((c, k) => (
        <Flex key={k} gap="2" align="center" mb="1" fontSize="xs">
          <Text w="4" textAlign="right">
            {k}
          </Text>
          <Choice
            label={`What goes into channel ${k}`}
            value={String(c.from)}
            options={sources}
            set={(from) => put(k, { from: from === 'layout' ? 'layout' : Number(from) })}
          />
          <TextField
            label={`Name of channel ${k}`}
            placeholder="name"
            wide={62}
            value={c.name}
            set={(name) => put(k, { name })}
          />
          <Button
            size="2xs"
            variant="ghost"
            aria-label={`Leave channel ${k} out`}
            onClick={() => set(channels.filter((_, n) => n !== k))}
          >
            Out
          </Button>
        </Flex>
      ))}
      {channels.length > 0 && (
        <>
          <Flex gap="2" my="1">
            <Button
              size="2xs"
              variant="outline"
              disabled={channels.length > 7}
              onClick={() => set([...channels, { from: layouts ? (old[0] ?? 0) : 'layout', name: '' }])}
            >
              One more
            </Button>
            <Button size="2xs" variant="ghost" onClick={() => set([])}>
              As they are
            </Button>
          </Flex>
          <Text fontSize="xs" color={layouts === 1 ? 'faded' : 'madder'}>
            {layouts === 1
              ? `Materials follow their channel. ${titles(formats, (f) => f.names_channels)} keeps the names; ${titles(formats, (f) => f.one_channel)} have one channel only.`
              : 'The layout goes into one channel.'}
          </Text>
        </>
      )}
    </Section>
  )
}
