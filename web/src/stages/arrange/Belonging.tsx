import { Button, Flex, Input, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { api, words } from '../../api/client'
import { numbersOf, objectOf } from '../../scene/objects'
import { flatOf, nameOfTile, sent, tileOfIsland, tilesOf, withSheet } from '../../scene/sheets'
import { selectedIslands, useParts } from '../../store'
import { counted, perMetre } from '../../words'
import { Choice, numbered, Setting } from '../parts'

const WHOSE = { name: 'objects', 'file name': 'files', 'material name': 'materials' }

/** Which parts belong to which tile of the sheet: set for a selection or in an order, and how full that makes each. */
export function Belonging() {
  const { state, sheet, selection, change, job, start, select, say } = useParts(
    'state',
    'sheet',
    'selection',
    'change',
    'job',
    'start',
    'select',
    'say',
  )
  const [pattern, setPattern] = useState('')
  const [tile, setTile] = useState(1001)
  const [whose, setWhose] = useState<keyof typeof WHOSE>('name')
  if (!state) return null
  const flat = flatOf(state.settings, sheet)
  const s = flat.sheet
  const tiles = tilesOf(s)
  const to = tiles.includes(tile) ? tile : tiles[0]
  const names = numbered(tiles, (t) => nameOfTile(s, t))
  const row = state.sheets.find((r) => r.id === s.id)
  const own = state.objects.filter((o) => !o.left_out && o.sheets.includes(s.id))
  const belong = (t: number) =>
    own.flatMap((o) => {
      const mine = numbersOf(o).filter((i) => tileOfIsland(state.settings, o.file, o.number, i) === t)
      return mine.length === o.islands && o.islands ? [o.key] : mine.map((i) => `${o.file}:${i}`)
    })
  const order = async (by: 'object' | 'material' | 'file' | keyof typeof WHOSE) => {
    const { data, error } = await api.POST('/api/projects/{project_id}/belongs', {
      params: { path: { project_id: state.id } },
      body: { sheet: s.id, by, pattern, tile: to },
    })
    if (!data) return say(words(error))
    const { tile_of, tile_names, columns, rows } = data
    const grid = { columns, rows, tile_names }
    await change({ settings: by in WHOSE ? { tile_of } : { tile_of, ...withSheet(state.settings, s.id, grid) } })
  }
  const move = row?.move
  const mover = move && objectOf(state, move.name)
  const usual = row?.figures?.density
  return (
    <>
      <Text fontSize="xs" color="faded" mb="1">
        Parts that belong to a tile are packed there, all at one density. The rest goes where there is room.
      </Text>
      {tiles.slice(0, 40).map((t) => {
        const mine = belong(t)
        const fill = row?.filled?.find((f) => f.tile === t)
        if (!mine.length) return null
        return (
          <Flex key={t} align="center" gap="2" mb="0.5">
            <Text
              as="button"
              flex="1"
              textAlign="left"
              truncate
              title={`Select the ${counted(mine.length, mine.every((k) => k.includes('/')) ? 'object' : 'part')} that belong here`}
              onClick={() => select(mine, false, true)}
            >
              <b>{nameOfTile(s, t)}</b> ({mine.length})
            </Text>
            {fill && usual && (row?.filled?.length ?? 0) > 1 && (
              <Text color={fill.alone < 1.005 ? 'madder' : 'faded'} flexShrink="0">
                {fill.alone < 1.005 ? 'fullest: it decides' : `alone ${perMetre(usual * fill.alone)}`}
              </Text>
            )}
            <Button
              size="2xs"
              variant="outline"
              disabled={!!job}
              aria-label={`Pack only ${nameOfTile(s, t)}`}
              title="Pack what belongs to this tile; everything in the others stays as it is"
              onClick={() => void start('pack', { sheets: [s.id], tiles: [t] })}
            >
              Pack it
            </Button>
          </Flex>
        )
      })}
      {move && mover && !row?.stale.length && (
        <Flex align="center" gap="2" my="1">
          <Text flex="1" fontSize="xs">
            {mover.name} in {nameOfTile(s, move.target)} instead of {move.source}: about{' '}
            {perMetre((usual ?? 0) * move.gain)} for all.
          </Text>
          <Button
            size="xs"
            variant="outline"
            disabled={!!job}
            onClick={() => void change({ settings: sent(state, [mover.key], move.target) })}
          >
            Move it
          </Button>
        </Flex>
      )}
      <Setting
        name="The selection belongs to"
        text={
          selection.size
            ? `${selection.size} selected`
            : 'Select objects or islands first, or drag them from the ledger onto a tile.'
        }
      >
        <Choice
          label="The selection belongs to"
          value=""
          disabled={!selection.size || !!job}
          options={[['', 'a tile...'], ...Object.entries(names), ['0', 'any tile']]}
          set={(t) => t && void change({ settings: sent(state, selection, Number(t)) })}
        />
      </Setting>
      <Flex gap="1" mb="2" wrap="wrap">
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => void order('object')}>
          Each object a tile
        </Button>
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => void order('material')}>
          Each material a tile
        </Button>
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => void order('file')}>
          Each file a tile
        </Button>
        <Button
          size="xs"
          variant="ghost"
          disabled={!!job || !Object.keys(state.settings.tile_of ?? {}).length}
          onClick={() => void change({ settings: { tile_of: {} } })}
        >
          Let all go
        </Button>
      </Flex>
      <Flex gap="1" mb="2" align="center" wrap="wrap">
        <Choice label="What is called so" value={whose} options={WHOSE} set={setWhose} />
        <Text fontSize="xs">called</Text>
        <Input
          size="xs"
          w="96px"
          aria-label="Objects that are called"
          placeholder="arm*"
          borderColor="thread"
          value={pattern}
          onChange={(e) => setPattern(e.target.value)}
        />
        <Text fontSize="xs">to</Text>
        <Choice label="Tile for them" value={String(to)} options={names} set={(t) => setTile(Number(t))} />
        <Button size="xs" variant="outline" disabled={!!job || !pattern.trim()} onClick={() => void order(whose)}>
          Send
        </Button>
      </Flex>
      <Flex gap="1" wrap="wrap" align="center">
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || !selection.size}
          title="Everything else on the sheet stays as it is"
          onClick={() => void start('pack', { sheets: [s.id], islands: selectedIslands() })}
        >
          Pack only the selection
        </Button>
      </Flex>
    </>
  )
}
