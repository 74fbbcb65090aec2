import { Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { flatOf, pxOf, tilesOf, withSheet, type Sheet } from '../../scene/sheets'
import { FileButton } from '../../frame/FileButton'
import { useParts } from '../../store'
import { Choice, NameField, NumberField, numbered, Setting } from '../parts'
import { Fill } from './RecipePanel'
import { perMetre } from '../../words'
import { themed } from '../../colours'

const MAPS = [64, 128, 256, 512, 1024, 2048, 4096, 8192]

/** The tiles of the sheet; of one of them its name, resolution, whether it is held, its picture, a region kept free. */
export function Tiles() {
  const { state, sheet, change, job, putPicture, start } = useParts(
    'state',
    'sheet',
    'change',
    'job',
    'putPicture',
    'start',
  )
  const [chosen, setChosen] = useState(1001)
  if (!state) return null
  const flat = flatOf(state.settings, sheet)
  const tiles = tilesOf(flat.sheet)
  const tile = tiles.includes(chosen) ? chosen : tiles[0]
  const s = flat.sheet
  const put = (part: Partial<Sheet>) => void change({ settings: withSheet(state.settings, s.id, part) })
  const figures = state.sheets.find((r) => r.id === s.id)?.figures?.tiles ?? []
  const held = new Set(s.held_tiles)
  const key = `${s.id}:${tile}`
  const picture = state.settings.pictures?.[key]
  const without = () => {
    const pictures = { ...state.settings.pictures }
    delete pictures[key]
    void change({ settings: { pictures } })
  }
  const here = figures.find((f) => f.tile === tile)
  const free = s.free ?? []
  return (
    <>
      <Setting name="Columns" text="Tiles side by side, UDIM numbers 1001 and on.">
        <NumberField
          name="Columns"
          value={s.columns}
          unit=""
          least={1}
          most={10}
          whole
          set={(columns) => put({ columns })}
        />
      </Setting>
      <Setting name="Rows" text="Rows of tiles; each adds 10 to the number.">
        <NumberField name="Rows" value={s.rows} unit="" least={1} most={100} whole set={(rows) => put({ rows })} />
      </Setting>
      <Fill />
      {tiles.length > 1 && (
        <Flex wrap="wrap" gap="1" mb="2" role="listbox" aria-label="Tiles">
          {tiles.slice(0, 60).map((t) => (
            <Button
              key={t}
              size="2xs"
              variant="outline"
              bg={t === tile ? 'fold' : undefined}
              borderStyle={t === tile ? 'dashed' : undefined}
              borderColor={t === tile ? 'ink' : 'thread'}
              role="option"
              aria-selected={t === tile}
              onClick={() => setChosen(t)}
            >
              {t}
              {held.has(t) ? ' held' : ''}
            </Button>
          ))}
        </Flex>
      )}
      <Text fontSize="xs" color="faded" mb="1">
        Tile {tile}: {here?.islands ?? 0} islands, {(100 * (here?.coverage ?? 0)).toFixed(1)} % covered
        {here?.density ? `, ${perMetre(here.density)}` : ''}
      </Text>
      <Flex gap="1" wrap="wrap" align="center" mb="2">
        <Choice
          label={`Resolution of tile ${tile}`}
          value={String(pxOf(flat, tile))}
          options={numbered(
            [...new Set([...MAPS, flat.map_px])].sort((a, b) => a - b),
            (m) => `${m} px`,
          )}
          disabled={!!job}
          set={(m) => {
            const tile_px: Record<string, number> = { ...s.tile_px, [tile]: Number(m) }
            if (Number(m) === flat.map_px) delete tile_px[tile]
            put({ tile_px })
          }}
        />
        {tiles.length > 1 && (
          <Button
            size="xs"
            variant="outline"
            disabled={!!job}
            title="A held tile stays as it is; the others are packed"
            onClick={() =>
              put({ held_tiles: held.has(tile) ? [...held].filter((t) => t !== tile) : [...held, tile].sort() })
            }
          >
            {held.has(tile) ? 'Let the tile go' : 'Hold the tile'}
          </Button>
        )}
        {tiles.length > 1 && (
          <Button
            size="xs"
            variant="outline"
            disabled={!!job || held.has(tile)}
            title="Everything in the other tiles stays as it is"
            onClick={() => void start('pack', { sheets: [s.id], tiles: [tile] })}
          >
            Pack only this tile
          </Button>
        )}
        <Button
          size="xs"
          variant="outline"
          disabled={!!job}
          title="Nothing is packed into the lower left quarter of this tile"
          onClick={() => put({ free: [...free, { tile, box: [0, 0, 0.25, 0.25] }] })}
        >
          Keep a corner free
        </Button>
      </Flex>
      {free.map((f, n) =>
        f.tile === tile ? (
          <FreeBox
            key={n}
            box={f.box}
            busy={!!job}
            set={(box) => put({ free: free.map((x, k) => (k === n ? { ...x, box } : x)) })}
            drop={() => put({ free: free.filter((_, k) => k !== n) })}
          />
        ) : null,
      )}
      {tiles.length > 1 && (
        <Flex align="center" gap="2" mb="2">
          <Text flex="1">Name of the tile</Text>
          <NameField
            label="Name of the tile"
            value={s.tile_names?.[tile] ?? ''}
            disabled={!!job}
            set={(name) => put({ tile_names: { ...s.tile_names, [tile]: name } })}
          />
        </Flex>
      )}
      <Flex align="center" gap="1" mb="3">
        <Text flex="1" fontSize="xs" color="faded" truncate>
          {picture ? `Picture: ${picture.name}` : 'No picture under this tile'}
        </Text>
        <FileButton size="2xs" testId="tile-picture" accept="image/*" take={(files) => void putPicture(tile, files[0])}>
          Choose
        </FileButton>
        {picture && (
          <Button size="2xs" variant="ghost" onClick={without}>
            Remove
          </Button>
        )}
      </Flex>
    </>
  )
}

const SIDES = ['left', 'bottom', 'right', 'top']

/** A region kept free, as shares of the tile in percent. */
function FreeBox({
  box,
  busy,
  set,
  drop,
}: {
  box: number[]
  busy: boolean
  set: (box: number[]) => void
  drop: () => void
}) {
  return (
    <Flex align="center" gap="1" mb="2" fontSize="xs" wrap="wrap">
      <Text>Free, %:</Text>
      {box.map((v, k) => (
        <input
          key={`${k} ${v}`}
          type="number"
          aria-label={`Free region, ${SIDES[k]}`}
          title={SIDES[k]}
          min={0}
          max={100}
          defaultValue={Math.round(1000 * v) / 10}
          disabled={busy}
          style={{ width: 46, background: 'transparent', border: `1px solid ${themed('thread')}` }}
          onBlur={(e) => {
            const next = box.map((x, n) => (n === k ? Number(e.target.value) / 100 : x))
            if (Math.abs(next[k] - v) > 1e-6 && next[0] < next[2] && next[1] < next[3]) set(next)
          }}
        />
      ))}
      <Button size="2xs" variant="ghost" disabled={busy} onClick={drop}>
        Drop
      </Button>
    </Flex>
  )
}
