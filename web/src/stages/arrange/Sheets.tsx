import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { assigned, FIRST, sheetBy, sheetsOf, withSheet, type Sheet } from '../../scene/sheets'
import { useParts } from '../../store'
import { counted } from '../../words'
import { CHANNELS, Choice, NameField, Setting } from '../parts'

/** The sheets of the project: which there are, what lies on them, their tiles. */
export function Sheets() {
  const { state, sheet, setSheet, selection, select, change, job } = useParts(
    'state',
    'sheet',
    'setSheet',
    'selection',
    'select',
    'change',
    'job',
  )
  if (!state) return null
  const { settings } = state
  const every = sheetsOf(settings)
  const now = sheetBy(settings, sheet)
  const rows = new Map(state.sheets.map((r) => [r.id, r]))
  const add = () => {
    const id = Math.max(...every.map((s) => s.id)) + 1
    const named = { ...FIRST, ...now, id, name: `Sheet ${id}`, tile_px: {}, tile_names: {}, held_tiles: [], free: [] }
    void change({ settings: { sheets: [...every, named] } }).then(() => setSheet(id))
  }
  const drop = () => void change({ settings: { sheets: every.filter((s) => s.id !== now.id) } })
  const move = (id: number) => void change({ settings: assigned(state, selection, id) })
  const mine = state.objects.filter((o) => o.sheets.includes(now.id) && !o.left_out)
  const put = (part: Partial<Sheet>) => void change({ settings: withSheet(settings, now.id, part) })
  return (
    <>
      <Box role="listbox" aria-label="Sheets" mb="2">
        {every.map((s) => {
          const row = rows.get(s.id)
          const why = row?.stale.length ? `stale: ${row.stale.join('; ')}` : ''
          return (
            <Box
              key={s.id}
              role="option"
              aria-selected={s.id === now.id}
              tabIndex={0}
              px="2"
              py="1"
              cursor="pointer"
              border={s.id === now.id ? '1.5px dashed' : '1.5px solid transparent'}
              borderColor={s.id === now.id ? 'ink' : undefined}
              bg={s.id === now.id ? 'fold' : undefined}
              onClick={() => setSheet(s.id)}
              onKeyDown={(e) => e.key === 'Enter' && setSheet(s.id)}
            >
              <Flex justify="space-between" gap="2">
                <Text fontWeight="600" truncate>
                  {s.name}
                </Text>
                <Text color="faded" flexShrink="0">
                  {counted(row?.islands ?? 0, 'island')}
                  {row?.kept && row.figures ? `, ${(100 * row.figures.coverage).toFixed(1)} %` : ''}
                </Text>
              </Flex>
              {(why || (!row?.kept && !!row?.islands)) && (
                <Text fontSize="xs" color="madder">
                  {why || 'not packed yet'}
                </Text>
              )}
              {!!row?.moved && (
                <Text fontSize="xs" color="faded">
                  {counted(row.moved, 'island')} moved since its try
                </Text>
              )}
            </Box>
          )
        })}
      </Box>
      <Flex gap="1" mb="3" wrap="wrap">
        <Button size="xs" variant="outline" disabled={!!job} onClick={add}>
          Add a sheet
        </Button>
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || every.length < 2 || mine.length > 0}
          title={mine.length ? 'Move its objects to another sheet first' : 'Delete this sheet'}
          onClick={drop}
        >
          Delete
        </Button>
        <Button
          size="xs"
          variant="ghost"
          disabled={!mine.length}
          onClick={() =>
            select(
              mine.map((o) => o.key),
              false,
              true,
            )
          }
        >
          Select its objects
        </Button>
      </Flex>
      {every.length > 1 && (
        <Setting name="Move the selection to" text={`${selection.size} selected. Objects stay apart in the files.`}>
          <Choice
            label="Move the selection to"
            value=""
            disabled={!selection.size || !!job}
            options={[['', 'a sheet...'], ...every.map((s) => [String(s.id), s.name] as const)]}
            set={(id) => id && move(Number(id))}
          />
        </Setting>
      )}
      <Setting name="Name" text="The files of this sheet are named after it.">
        <NameField value={now.name} disabled={!!job} set={(name) => put({ name })} />
      </Setting>
      {every.length > 1 && (
        <Setting name="Channel it writes" text="Of each mesh on this sheet, when the files are delivered.">
          <Choice
            label="Channel it writes"
            value={now.channel == null ? '' : String(now.channel)}
            options={[
              ['', `as in Deliver: ${settings.channel_out ?? 0}`],
              ...CHANNELS.map((c) => [String(c), `channel ${c}`] as const),
            ]}
            disabled={!!job}
            set={(c) => put({ channel: c === '' ? null : Number(c) })}
          />
        </Setting>
      )}
    </>
  )
}
