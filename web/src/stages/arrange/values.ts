import type { State } from '../../api/client'
import { flatOf, sheetsOf, tilesOf } from '../../scene/sheets'
import { counted, plain } from '../../words'
import { turning } from '../rotations'

/** What is set in each part of the worksheet of Arrange, in a few words. */
export function valuesOf(state: State, sheet: number) {
  const s = flatOf(state.settings, sheet)
  const tiles = tilesOf(s.sheet)
  const sizes = new Set(tiles.map((t) => s.sheet.tile_px?.[t] ?? s.map_px)).size
  const parts = Object.values(state.settings.tile_of ?? {}).filter((t) => t > 0)
  const { held = [], rotations = {}, bunches = [], twins = [] } = state.settings
  const turned = Object.keys(rotations).length
  const rules = [
    held.length && `${held.length} held`,
    turned && `${turned} turn otherwise`,
    bunches.length && counted(bunches.length, 'bunch', 'bunches'),
    twins.length && counted(twins.length, 'group of twins', 'groups of twins'),
  ].filter(Boolean)
  const every = sheetsOf(state.settings)
  return {
    size: [
      `${s.map_px} px`,
      `${plain(s.padding_px)} px padding`,
      turning(s.rotate),
      s.hold ? `${plain(s.density)} px/m` : 'as dense as fits',
    ].join(', '),
    tiles: tiles.length < 2 ? 'one' : `${tiles.length}${sizes > 1 ? `, of ${sizes} sizes` : ''}`,
    sent: parts.length ? `${counted(parts.length, 'part')} to ${counted(new Set(parts).size, 'tile')}` : 'anywhere',
    rules: rules.length ? rules.join(', ') : 'none',
    sheets: every.length > 1 ? `${every.length}` : every[0].name,
    recipe: `${s.sheet.recipe || "the project's own"}, ${s.passes == null ? `${plain(s.seconds)} s` : counted(s.passes, 'pass', 'passes')}`,
  }
}
