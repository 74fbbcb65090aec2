import { Box, Flex, Input, Text } from '@chakra-ui/react'
import { useMemo, useRef, useState, type KeyboardEvent } from 'react'
import { bandOf, target } from '../scene/states'
import { Choice } from '../stages/parts'
import { useParts } from '../store'
import { counted } from '../words'
import { between, GROUPS, linesOf, SORTS, type Group, type Line, type Sort } from './rows'
import { LineRow, ROW, WIDTH } from './LineRow'

const HEIGHT = 26

/** How the objects compare: each one's density as a dot on one log scale, the target and its band drawn through all rows. */
export function Ledger() {
  const { state, pieces, faults, selection, select, drawn, sheet } = useParts(
    'state',
    'pieces',
    'faults',
    'selection',
    'select',
    'drawn',
    'sheet',
  )
  const [filter, setFilter] = useState('')
  const [sort, setSort] = useState<Sort>('file')
  const [group, setGroup] = useState(() => (localStorage.getItem('ledger groups') ?? 'none') as Group)
  const from = useRef('')
  const [fault, setFault] = useState('')
  const [on, setOn] = useState(0)
  const [open, setOpen] = useState<Set<string>>(new Set())
  const [top, setTop] = useState(0)
  const list = useRef<HTMLDivElement>(null)
  const kind = faults.some((f) => f.kind === fault) ? fault : ''
  const lines = useMemo(
    () => linesOf(state, pieces, faults, open, filter, sort, kind, on, group in GROUPS ? group : 'none'),
    // `drawn` counts the layouts that the pieces were given.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [state, pieces, faults, open, filter, sort, kind, on, group, drawn],
  )
  const scale = useMemo(() => {
    const known = (state?.objects ?? []).flatMap((o) => (o.density ? [o.density.least, o.density.greatest] : []))
    const low = Math.min(...known, Infinity) / 1.3
    const high = Math.max(...known, 0) * 1.3
    return (d: number) => Math.min(WIDTH, Math.max(0, (WIDTH * Math.log(d / low)) / Math.log(high / low)))
  }, [state])
  const wanted = state && target(state, sheet)
  const targets = new Map(state?.sheets.map((s) => [s.id, target(state, s.id)]))
  const band = state ? 2 ** bandOf(state) : 1
  const toggle = (key: string) => {
    const next = new Set(open)
    if (!next.delete(key)) next.add(key)
    setOpen(next)
  }
  const height = list.current?.clientHeight ?? 800
  const begin = Math.max(0, Math.floor(top / HEIGHT) - 10)
  const seen = lines.slice(begin, begin + Math.ceil(height / HEIGHT) + 20)
  const x = wanted ? scale(wanted) : 0
  return (
    <Flex direction="column" h="100%" bg="sheet">
      <Flex gap="1" p="2" pb="1">
        <Input
          size="xs"
          aria-label="Filter objects"
          placeholder="Filter by name or material"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          borderColor="thread"
        />
        <Choice label="Sort objects" value={sort} options={SORTS} set={setSort} />
      </Flex>
      <Flex gap="1" px="2" pb="1">
        <Choice
          label="Group objects"
          value={group}
          options={GROUPS}
          set={(g) => {
            localStorage.setItem('ledger groups', g)
            setGroup(g)
          }}
        />
        {(state?.sheets.length ?? 0) > 1 && (
          <select
            aria-label="Only on this sheet"
            value={on}
            style={{ flex: '1 1 80px', minWidth: 0 }}
            onChange={(e) => setOn(Number(e.target.value))}
          >
            <option value={0}>on all sheets</option>
            {state?.sheets.map((s) => (
              <option key={s.id} value={s.id}>
                on {s.name}
              </option>
            ))}
          </select>
        )}
        {faults.length > 0 && (
          <select
            aria-label="Only with this fault"
            value={kind}
            style={{ flex: '1 1 80px', minWidth: 0 }}
            onChange={(e) => setFault(e.target.value)}
          >
            <option value="">with and without faults</option>
            {faults.map((f) => (
              <option key={`${f.sheet} ${f.kind}`} value={f.kind}>
                only: {f.title}
              </option>
            ))}
          </select>
        )}
      </Flex>
      <Flex px="2" pb="1" color="faded" fontSize="xs" justify="space-between">
        <Text>{state?.objects.length ?? 0} objects, islands</Text>
        <Text>density, px/m at {state?.settings.map_px} px</Text>
      </Flex>
      <Box
        ref={list}
        flex="1"
        overflowY="auto"
        role="listbox"
        aria-label="Objects"
        aria-multiselectable
        onScroll={(e) => setTop(e.currentTarget.scrollTop)}
      >
        <Box position="relative" style={{ height: lines.length * HEIGHT }}>
          <Box position="absolute" left="0" right="0" style={{ top: begin * HEIGHT }}>
            {seen.map((line) =>
              line.kind === 'group' ? (
                <GroupRow key={line.key} line={line} choose={(add) => select(line.keys, add)} />
              ) : (
                <LineRow
                  key={line.key}
                  line={line}
                  selected={selection.has(line.key)}
                  place={scale}
                  target={x && wanted ? wanted : null}
                  own={targets.get(line.sheet) ?? null}
                  band={band}
                  choose={(add, range) => {
                    if (range && from.current)
                      select([...(add ? selection : []), ...between(lines, from.current, line.key)])
                    else select([line.key], add)
                    if (!range) from.current = line.key
                  }}
                  show={() => select([line.key], false, true)}
                  toggle={() => toggle(line.key)}
                  move={moveFocus}
                />
              ),
            )}
          </Box>
        </Box>
        {!lines.length && (
          <Text p="4" color="faded">
            {!state
              ? 'Reading the project …'
              : state.objects.length
                ? 'Nothing matches this filter.'
                : 'No objects yet. Drop meshes anywhere on this page.'}
          </Text>
        )}
      </Box>
    </Flex>
  )
}

/** The head of a group: what it is, and its sums; a click selects all of it. */
function GroupRow({ line, choose }: { line: Extract<Line, { kind: 'group' }>; choose: (add: boolean) => void }) {
  return (
    <Flex
      {...ROW}
      aria-selected={false}
      gap="2"
      bg="fold"
      fontSize="xs"
      title="Select all of it"
      onClick={(e) => choose(e.ctrlKey || e.metaKey)}
      onKeyDown={(e) => {
        if (e.key === 'Enter') choose(e.ctrlKey)
        else if (e.key === 'ArrowDown' || e.key === 'ArrowUp') moveFocus(e)
      }}
    >
      <Text fontWeight="600" flex="1" truncate>
        {line.name}
      </Text>
      <Text color="faded" whiteSpace="nowrap">
        {counted(line.keys.length, 'object')}, {counted(line.islands, 'island')}
      </Text>
    </Flex>
  )
}

/** Arrow keys go from line to line. */
function moveFocus(e: KeyboardEvent<HTMLElement>): void {
  const to = e.key === 'ArrowDown' ? e.currentTarget.nextElementSibling : e.currentTarget.previousElementSibling
  if (to instanceof HTMLElement) to.focus()
  e.preventDefault()
}
