import { Box, Flex, Text, Input } from '@chakra-ui/react'
import { useMemo, useState } from 'react'
import type { ObjectRow } from '../api/client'
import { useQuilt } from '../store'
import { CLOTH } from '../theme'

const WIDTH = 96
const SORTS = { file: 'as in the files', density: 'by density', name: 'by name' } as const

/** How the objects compare: each one's density as a dot on one log scale, the target drawn through all rows. */
export function Ledger() {
  const { state, selection, select } = useQuilt()
  const [filter, setFilter] = useState('')
  const [sort, setSort] = useState<keyof typeof SORTS>('file')
  const objects = useMemo(() => state?.objects ?? [], [state])
  const rows = useMemo(() => {
    const found = objects.filter((o) => (o.name + o.materials.join(' ')).toLowerCase().includes(filter.toLowerCase()))
    if (sort === 'density') found.sort((a, b) => (a.density?.median ?? 0) - (b.density?.median ?? 0))
    if (sort === 'name') found.sort((a, b) => a.name.localeCompare(b.name))
    return found
  }, [objects, filter, sort])
  const known = objects.flatMap((o) => (o.density ? [o.density.median] : []))
  const low = Math.min(...known, Infinity) / 1.5
  const high = Math.max(...known, 0) * 1.5
  const place = (d: number) => (WIDTH * Math.log(d / low)) / Math.log(high / low)
  const target = state?.settings.hold ? state.settings.density : state?.figures?.density
  return (
    <Flex direction="column" h="100%" bg="sheet">
      <Flex gap="1" p="2">
        <Input
          size="xs"
          aria-label="Filter objects"
          placeholder="Filter by name or material"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          borderColor="thread"
        />
        <select aria-label="Sort objects" value={sort} onChange={(e) => setSort(e.target.value as keyof typeof SORTS)}>
          {Object.entries(SORTS).map(([k, t]) => (
            <option key={k} value={k}>
              {t}
            </option>
          ))}
        </select>
      </Flex>
      <Flex px="2" pb="1" color="faded" fontSize="xs" justify="space-between">
        <Text>{objects.length} objects, islands</Text>
        <Text>density, px/m at {state?.settings.map_px} px</Text>
      </Flex>
      <Box flex="1" overflowY="auto" role="listbox" aria-label="Objects" aria-multiselectable>
        {rows.map((o) => (
          <Row
            key={o.key}
            object={o}
            colour={CLOTH[objects.indexOf(o) % CLOTH.length]}
            selected={selection.has(o.key)}
            place={place}
            target={target ?? null}
            choose={(add) => select([o.key], add)}
          />
        ))}
        {!objects.length && (
          <Text p="4" color="faded">
            No objects yet. Drop meshes anywhere on this page.
          </Text>
        )}
      </Box>
    </Flex>
  )
}

interface RowProps {
  object: ObjectRow
  colour: string
  selected: boolean
  place: (d: number) => number
  target: number | null
  choose: (add: boolean) => void
}

function Row({ object: o, colour, selected, place, target, choose }: RowProps) {
  const d = o.density
  const side = d && target ? (d.median < target / 1.1 ? 'starved' : d.median > target * 1.1 ? 'lavish' : 'ink') : 'ink'
  return (
    <Flex
      role="option"
      aria-selected={selected}
      tabIndex={0}
      align="center"
      gap="2"
      px="2"
      h="26px"
      cursor="pointer"
      bg={selected ? 'fold' : undefined}
      outline={selected ? '1px dashed' : undefined}
      outlineColor="ink"
      outlineOffset="-2px"
      opacity={o.left_out ? 0.5 : 1}
      onClick={(e) => choose(e.ctrlKey || e.metaKey || e.shiftKey)}
      onKeyDown={(e) => e.key === 'Enter' && choose(e.ctrlKey)}
      title={`${o.path}: ${o.triangles} triangles${d ? `, density ${d.least.toFixed(1)} to ${d.greatest.toFixed(1)} px/m` : ''}`}
    >
      <Box w="10px" h="10px" flexShrink="0" style={{ background: colour }} />
      <Text flex="1" truncate>
        {o.name}
        {o.left_out && ' (left out)'}
      </Text>
      <Text color="faded" minW="7" textAlign="right">
        {o.islands}
      </Text>
      {d ? (
        <svg width={WIDTH} height="24" aria-hidden>
          <line x1="0" x2={WIDTH} y1="12" y2="12" stroke="var(--chakra-colors-thread)" />
          {target && (
            <line
              x1={place(target)}
              x2={place(target)}
              y1="0"
              y2="24"
              stroke="var(--chakra-colors-indigo)"
              strokeDasharray="4 2"
            />
          )}
          <line
            x1={place(d.least)}
            x2={place(d.greatest)}
            y1="12"
            y2="12"
            stroke={`var(--chakra-colors-${side})`}
            strokeWidth="2"
          />
          <circle cx={place(d.median)} cy="12" r="4" fill={`var(--chakra-colors-${side})`} />
        </svg>
      ) : (
        <Text color="madder" w={`${WIDTH}px`}>
          no UVs
        </Text>
      )}
      <Text minW="12" textAlign="right">
        {d ? d.median.toPrecision(4) : ''}
      </Text>
    </Flex>
  )
}
