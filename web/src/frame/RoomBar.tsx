import { Box, Flex } from '@chakra-ui/react'
import { Choice } from '../stages/parts'
import { fold, setViews, useRoom } from './room'
import { FOLDS, VIEWS, type Fold } from './rooms'

const KEYS: Record<Fold, string> = { ledger: 'L', worksheet: 'W', tries: 'T' }
/** The part of a page (14 x 11) that each is. */
const PARTS: Record<Fold, [x: number, y: number, w: number, h: number]> = {
  ledger: [0, 0, 4, 11],
  tries: [0, 8, 14, 3],
  worksheet: [10, 0, 4, 11],
}

/** How the screen is shared out: which pictures are shown, what is folded. */
export function RoomBar() {
  const room = useRoom()
  return (
    <Flex ml="auto" align="center" gap="1" role="group" aria-label="Room">
      <Choice label="Pictures that are shown" value={room.views} options={VIEWS} set={setViews} />
      {(Object.keys(FOLDS) as Fold[]).map((what) => {
        const open = !room.folded.includes(what)
        const [x, y, width, height] = PARTS[what]
        return (
          <Box
            as="button"
            key={what}
            aria-pressed={open}
            aria-label={`Show ${FOLDS[what]}`}
            title={`${open ? 'Fold' : 'Open'} ${FOLDS[what]} (${KEYS[what]})`}
            px="1"
            py="1.5"
            onClick={() => fold(what)}
          >
            <svg width="16" height="13" aria-hidden>
              <rect x="1" y="1" width="14" height="11" fill="none" stroke="var(--chakra-colors-faded)" />
              <rect
                x={1 + x}
                y={1 + y}
                width={width}
                height={height}
                fill={open ? 'var(--chakra-colors-indigo)' : 'none'}
                stroke="var(--chakra-colors-faded)"
              />
            </svg>
          </Box>
        )
      })}
    </Flex>
  )
}

/** What is folded: an edge that opens it again. */
export function Edge({ what, flat = false }: { what: Fold; flat?: boolean }) {
  return (
    <Box
      as="button"
      aria-label={`Open ${FOLDS[what]}`}
      title={`Open ${FOLDS[what]} (${KEYS[what]})`}
      flexShrink="0"
      w={flat ? '100%' : '22px'}
      h={flat ? '20px' : '100%'}
      bg="fold"
      color="faded"
      fontSize="xs"
      style={flat ? undefined : { writingMode: 'vertical-rl' }}
      _hover={{ bg: 'thread' }}
      onClick={() => fold(what)}
    >
      {FOLDS[what].replace('the ', '')}
    </Box>
  )
}
