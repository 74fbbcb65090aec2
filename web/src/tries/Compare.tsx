import { Box, Button, CloseButton, Dialog, Flex, Grid, Portal, Text } from '@chakra-ui/react'
import { Fragment, useState, type ReactNode } from 'react'
import type { Try } from '../api/client'
import { turning } from '../stages/rotations'
import { perMetre } from '../words'

interface Props {
  pair: [Try, Try]
  close: () => void
  keep: (id: number) => void
  name: (t: Try) => ReactNode
}

const FILLED: Record<string, string> = { common: 'one for all tiles', each: "each tile's own" }
const px = (v: number | null) => (v === null ? 'none' : `${v.toFixed(3)} px`)
const FIGURES: [string, (t: Try) => string][] = [
  ['coverage', (t) => `${(100 * t.figures.coverage).toFixed(2)} %`],
  ['density', (t) => perMetre(t.figures.density, 5)],
  ['smallest gap', (t) => px(t.figures.smallest_gap_px)],
  ['smallest margin', (t) => px(t.figures.smallest_margin_px)],
  ['time', (t) => `${t.figures.seconds?.toFixed(1) ?? ''} s`],
  ['map', (t) => `${t.figures.map_px} px`],
  ['padding, margin', (t) => `${String(t.recipe.padding_px)}, ${String(t.recipe.margin_px)} px`],
  ['turning', (t) => turning(t.recipe.rotate)],
  ['scale', (t) => (t.recipe.hold ? `holds ${perMetre(Number(t.recipe.density))}` : FILLED[String(t.recipe.fill)])],
  ['seed', (t) => String(t.seed)],
]

/** Two tries wiped over each other, or side by side, with what they have and what they were made with. */
export function Compare({ pair, close, keep, name }: Props) {
  const [wipe, setWipe] = useState(50)
  const [beside, setBeside] = useState(false)
  const picture = (t: Try) => `/api/layouts/${t.id}/picture`
  const size = { width: '100%', height: '100%', objectFit: 'contain' as const }
  return (
    <Dialog.Root open onOpenChange={(e) => !e.open && close()} size="xl">
      <Portal>
        <Dialog.Backdrop bg="blackAlpha.500" />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" color="ink" maxW="1000px">
            <Dialog.Header py="3">
              <Dialog.Title>Compare two tries</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Flex gap="5">
                <Box w="500px" flexShrink="0">
                  {beside ? (
                    <Flex gap="2">
                      {pair.map((t) => (
                        <Box key={t.id} w="246px" h="246px">
                          <img src={picture(t)} style={size} alt={`Picture of ${t.name}`} />
                        </Box>
                      ))}
                    </Flex>
                  ) : (
                    <Box position="relative" w="500px" h="500px" data-testid="wipe">
                      <img src={picture(pair[1])} style={size} alt={`Picture of ${pair[1].name}`} />
                      <Box position="absolute" inset="0" style={{ clipPath: `inset(0 ${100 - wipe}% 0 0)` }} bg="sheet">
                        <img src={picture(pair[0])} style={size} alt={`Picture of ${pair[0].name}`} />
                      </Box>
                      <Box
                        position="absolute"
                        top="0"
                        bottom="0"
                        borderLeft="2px dashed"
                        borderColor="ink"
                        style={{ left: `${wipe}%` }}
                      />
                    </Box>
                  )}
                  <Flex align="center" gap="3" mt="2">
                    {!beside && (
                      <>
                        <Text fontWeight="600">A</Text>
                        <input
                          type="range"
                          aria-label="Wipe between A and B"
                          min="0"
                          max="100"
                          value={wipe}
                          style={{ flex: 1 }}
                          onChange={(e) => setWipe(Number(e.target.value))}
                        />
                        <Text fontWeight="600">B</Text>
                      </>
                    )}
                    <Button size="xs" variant="outline" onClick={() => setBeside(!beside)}>
                      {beside ? 'Wipe' : 'Side by side'}
                    </Button>
                  </Flex>
                </Box>
                <Grid
                  templateColumns="auto minmax(0, 1fr) minmax(0, 1fr)"
                  gap="1"
                  columnGap="3"
                  alignContent="start"
                  flex="1"
                  minW="0"
                >
                  <span />
                  {pair.map((t, n) => (
                    <Box key={t.id}>
                      <Text fontWeight="600">{n ? 'B' : 'A'}</Text>
                      {name(t)}
                    </Box>
                  ))}
                  {FIGURES.map(([what, of]) => (
                    <Fragment key={what}>
                      <Text color="faded">{what}</Text>
                      {pair.map((t) => (
                        <Text key={t.id} fontWeight={of(pair[0]) === of(pair[1]) ? '400' : '600'}>
                          {of(t)}
                        </Text>
                      ))}
                    </Fragment>
                  ))}
                  <span />
                  {pair.map((t) => (
                    <Button key={t.id} size="xs" mt="2" variant="outline" disabled={t.kept} onClick={() => keep(t.id)}>
                      {t.kept ? 'Kept' : `Keep ${t.name}`}
                    </Button>
                  ))}
                </Grid>
              </Flex>
            </Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" color="ink" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  )
}
