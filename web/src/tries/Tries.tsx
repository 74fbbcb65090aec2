import { Box, Button, CloseButton, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import type { Try } from '../api/client'
import { sheetBy } from '../scene/sheets'
import { NameField } from '../stages/parts'
import { useParts } from '../store'
import { Compare } from './Compare'
import { perMetre } from '../words'

/** Every finished run of the sheet that is shown, with its picture and figures; a click keeps it, two are compared. */
export function Tries() {
  const { state, sheet, job, start, discard } = useParts('state', 'sheet', 'job', 'start', 'discard')
  const [pair, setPair] = useState<number[]>([])
  const [side, setSide] = useState<[Try, Try] | null>(null)
  const now = state && sheetBy(state.settings, sheet).id
  const tries = state?.tries.filter((t) => t.sheet === now) ?? []
  const chosen = pair.map((id) => tries.find((t) => t.id === id)).filter((t) => t !== undefined)
  const mark = (id: number) => setPair((p) => (p.includes(id) ? p.filter((x) => x !== id) : [...p, id].slice(-2)))
  return (
    <Flex
      h={tries.length ? '90px' : '32px'}
      flexShrink="0"
      borderTop="1px dashed"
      borderColor="thread"
      overflowX="auto"
      px="2"
      py="1"
      gap="2"
      align="center"
      aria-label="Tries"
      role="region"
    >
      {!tries.length && <Text color="faded">Finished runs of the packer stand here, to compare and to keep one.</Text>}
      {tries.length > 1 && (
        <Box flexShrink="0" w="92px" fontSize="xs">
          <Text color="faded">{chosen.length === 2 ? 'Two are marked.' : 'Mark two with A | B'}</Text>
          <Button
            size="2xs"
            variant="outline"
            mt="1"
            disabled={chosen.length < 2}
            onClick={() => setSide([chosen[0], chosen[1]])}
          >
            Compare
          </Button>
        </Box>
      )}
      {tries.map((t) => (
        <Box key={t.id} position="relative" flexShrink="0">
          <Flex
            gap="2"
            p="1"
            pr={tries.length > 1 ? '10' : '6'}
            bg="sheet"
            border={t.kept ? '2px dashed' : '1px solid'}
            borderColor={t.kept ? 'ink' : 'thread'}
          >
            <Flex
              as="button"
              gap="2"
              textAlign="left"
              aria-pressed={t.kept}
              title={`${t.kept ? 'This is the layout' : 'Keep this try'}; seed ${t.seed}, ${String(t.recipe.rotate)} turning`}
              onClick={() => !job && !t.kept && void start('keep', { layout: t.id })}
            >
              <img
                src={`/api/layouts/${t.id}/picture`}
                style={{ maxWidth: 130, maxHeight: 68, objectFit: 'contain' }}
                alt={`Picture of ${t.name}`}
              />
              <Box fontSize="xs">
                <Text fontWeight="600">
                  {t.name}
                  {t.kept && ', kept'}
                </Text>
                <Text>{(100 * t.figures.coverage).toFixed(1)} % covered</Text>
                <Text>{perMetre(t.figures.density)}</Text>
                <Text>
                  gap {t.figures.smallest_gap_px?.toFixed(2)} of {t.padding_px} px, {t.figures.seconds?.toFixed(0)} s
                </Text>
              </Box>
            </Flex>
            {tries.length > 1 && (
              <Button
                size="2xs"
                variant="ghost"
                {...(pair.includes(t.id) && { bg: 'indigo', color: 'sheet' })}
                position="absolute"
                bottom="1"
                right="1"
                px="1"
                minW="0"
                aria-label={`Mark ${t.name} to compare`}
                aria-pressed={pair.includes(t.id)}
                onClick={() => mark(t.id)}
              >
                {pair[0] === t.id ? 'A' : pair[1] === t.id ? 'B' : 'A | B'}
              </Button>
            )}
          </Flex>
          {!t.kept && (
            <CloseButton
              size="2xs"
              color="faded"
              position="absolute"
              top="1"
              right="1"
              aria-label={`Delete ${t.name}`}
              title="Delete this try"
              disabled={!!job}
              onClick={() => void discard(t.id)}
            />
          )}
        </Box>
      ))}
      {side && (
        <Compare
          pair={side}
          close={() => setSide(null)}
          keep={(id) => void start('keep', { layout: id }).then(() => setSide(null))}
          name={(t) => (
            <NameField
              label={`Name of ${t.name}`}
              value={t.name}
              set={(name) => void discard(t.id, { discarded: false, name }).then(() => setSide(null))}
            />
          )}
        />
      )}
    </Flex>
  )
}
