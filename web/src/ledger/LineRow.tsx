import { Box, Flex, Text } from '@chakra-ui/react'
import type { KeyboardEvent } from 'react'
import type { Line } from './rows'
import { plain } from '../words'

export const WIDTH = 64
/** What every line of the ledger has. */
export const ROW = { role: 'option', tabIndex: 0, align: 'center', px: '2', h: '26px', cursor: 'pointer' } as const
/** What a drag out of the ledger carries: the key of a line. */
export const DRAGGED = 'text/x-quilt-line'

interface Props {
  line: Exclude<Line, { kind: 'group' }>
  selected: boolean
  place: (d: number) => number
  /** The target of the sheet that is shown: the line through all rows. */
  target: number | null
  /** The target of the sheet that this lies on. */
  own: number | null
  band: number
  choose: (add: boolean, range: boolean) => void
  show: () => void
  toggle: () => void
  move: (e: KeyboardEvent<HTMLElement>) => void
}

/** One object or island: its cloth, name, open points, and its density on the scale. */
export function LineRow({ line, selected, place, target, own, band, choose, show, toggle, move }: Props) {
  const o = line.kind === 'object' ? line.object : null
  const d = line.kind === 'object' ? line.object.density : single(line.density)
  const weight = line.kind === 'object' ? line.object.weight : line.weight
  const wanted = target && target * weight
  const aim = own && own * weight
  const side = d && aim ? (d.median < aim / band ? 'starved' : d.median > aim * band ? 'lavish' : 'ink') : 'ink'
  return (
    <Flex
      {...ROW}
      aria-selected={selected}
      gap="1.5"
      bg={selected ? 'fold' : undefined}
      outline={selected ? '1px dashed' : undefined}
      outlineColor="ink"
      outlineOffset="-2px"
      opacity={o?.left_out ? 0.5 : 1}
      onClick={(e) => choose(e.ctrlKey || e.metaKey, e.shiftKey)}
      onDoubleClick={show}
      draggable
      onDragStart={(e) => e.dataTransfer.setData(DRAGGED, line.key)}
      onKeyDown={(e) => {
        if (e.key === 'Enter') choose(e.ctrlKey, e.shiftKey)
        else if (o && e.key === 'ArrowRight' && line.kind === 'object' && !line.open) toggle()
        else if (o && e.key === 'ArrowLeft' && line.kind === 'object' && line.open) toggle()
        else if (e.key === 'ArrowDown' || e.key === 'ArrowUp') move(e)
      }}
      title={titleOf(line)}
    >
      {line.kind === 'object' ? (
        <>
          {/* Keys open it with the arrows: a button inside an option is one that nobody could reach. */}
          <Box
            aria-hidden
            data-testid={`open ${line.object.name}`}
            title={line.open ? 'Close (←)' : 'Open (→)'}
            w="3"
            color="faded"
            visibility={line.object.islands ? 'visible' : 'hidden'}
            onClick={(e) => {
              e.stopPropagation()
              toggle()
            }}
          >
            {line.open ? '▾' : '▸'}
          </Box>
          <Box w="10px" h="10px" flexShrink="0" style={{ background: line.colour }} />
          <Text flex="1" minW="36px" truncate>
            {line.object.name}
            {line.object.left_out && ' (left out)'}
          </Text>
        </>
      ) : (
        <Text flex="1" pl="7" truncate color="faded">
          {line.name}
          {line.faults.length > 0 && (
            <Text as="span" color="madder">
              {' '}
              {line.faults.join(', ')}
            </Text>
          )}
        </Text>
      )}
      {line.rules.length > 0 && (
        <Text
          fontSize="xs"
          color="indigo"
          truncate
          maxW="60px"
          flexShrink={0}
          title={`Rules: ${line.rules.join(', ')}`}
        >
          {line.rules.join(', ')}
        </Text>
      )}
      {/* What lies where its rule says is told once. */}
      {line.lies && !line.rules.includes(line.lies) && (
        <Text fontSize="xs" color="faded" truncate maxW="60px" title={`Lies on ${line.lies}`} data-testid="lies">
          {line.lies}
        </Text>
      )}
      {weight !== 1 && (
        <Text fontSize="xs" color="indigo" title={`Weight ${weight}`}>
          ×{weight}
        </Text>
      )}
      {o && o.points > 0 && (
        <Text fontSize="xs" color="madder" title={`${o.points} open points on its islands`}>
          {o.points}
        </Text>
      )}
      {o && (
        <Text color="faded" minW="7" textAlign="right">
          {o.islands}
        </Text>
      )}
      {d ? (
        <Dots d={d} place={place} wanted={wanted} band={band} side={side} />
      ) : (
        <Text color={o && !o.detail_of ? 'madder' : 'faded'} w={`${WIDTH}px`} truncate>
          {o?.detail_of ? 'gives detail' : o ? 'no UVs' : 'no area'}
        </Text>
      )}
      <Text minW="11" textAlign="right">
        {d ? plain(d.median) : ''}
      </Text>
    </Flex>
  )
}

interface Range {
  median: number
  least: number
  greatest: number
}

const single = (d: number | null): Range | null => (d ? { median: d, least: d, greatest: d } : null)

interface DotsProps {
  d: Range
  place: (d: number) => number
  wanted: number | null
  band: number
  side: string
}

function Dots({ d, place, wanted, band, side }: DotsProps) {
  const colour = `var(--chakra-colors-${side})`
  return (
    <svg width={WIDTH} height="26" aria-hidden style={{ flexShrink: 0 }}>
      {wanted && (
        <rect
          x={place(wanted / band)}
          width={Math.max(1, place(wanted * band) - place(wanted / band))}
          y="0"
          height="26"
          fill="var(--chakra-colors-fold)"
        />
      )}
      <line x1="0" x2={WIDTH} y1="13" y2="13" stroke="var(--chakra-colors-thread)" />
      {wanted && (
        <line
          x1={place(wanted)}
          x2={place(wanted)}
          y1="0"
          y2="26"
          stroke="var(--chakra-colors-indigo)"
          strokeDasharray="4 2"
        />
      )}
      <line x1={place(d.least)} x2={place(d.greatest)} y1="13" y2="13" stroke={colour} strokeWidth="2" />
      <circle cx={place(d.median)} cy="13" r="4" fill={colour} />
    </svg>
  )
}

function titleOf(line: Exclude<Line, { kind: 'group' }>): string {
  if (line.kind === 'island') return line.density ? `${line.density.toFixed(1)} px/m` : 'no area'
  const { path, triangles, density: d, shares, detail_of } = line.object
  return [
    `${path}: ${triangles} triangles`,
    d ? `density ${d.least.toFixed(1)} to ${d.greatest.toFixed(1)} px/m` : 'no UVs in this channel',
    detail_of && `${detail_of} is baked from it, so it needs none; select it to see it on the model`,
    shares.length ? `shares its islands with ${shares.join(', ')}: evened by the largest of them` : '',
  ]
    .filter(Boolean)
    .join('; ')
}
