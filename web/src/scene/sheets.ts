import type { Settings, State } from '../api/client'
import { numbersOf, objectOf } from './objects'

export type Sheet = NonNullable<Settings['sheets']>[number]
export type Recipe = NonNullable<Settings['recipes']>[string]
/** The settings as they hold for one sheet: its recipe's in place of the project's, its map size, the sheet itself. */
export type Flat = Settings & { sheet: Sheet }

export const FIRST: Sheet = {
  id: 1,
  name: 'Sheet 1',
  recipe: '',
  map_px: null,
  columns: 1,
  rows: 1,
  tile_px: {},
  tile_names: {},
  held_tiles: [],
  free: [],
  channel: null,
}
export const IN_RECIPE = [
  'padding_px',
  'margin_px',
  'rotate',
  'hold',
  'density',
  'keep_ratios',
  'ratios',
  'fill',
  'mirror',
  'texel_grid',
  'grid_percent',
  'seconds',
  'passes',
  'seed',
] as const

/** All sheets, at least one. */
export function sheetsOf(settings: Settings): Sheet[] {
  return settings.sheets?.length ? settings.sheets : [FIRST]
}

/** The sheet of a number, or the first. */
export function sheetBy(settings: Settings, id: number): Sheet {
  const every = sheetsOf(settings)
  return every.find((s) => s.id === id) ?? every[0]
}

export function flatOf(settings: Settings, id: number): Flat {
  const sheet = sheetBy(settings, id)
  return {
    ...settings,
    ...settings.recipes?.[sheet.recipe],
    map_px: sheet.map_px ?? settings.map_px,
    sheet,
  }
}

/** The recipe of a sheet, or of the project, on its own. */
export function recipeOf(flat: Settings): Recipe {
  return Object.fromEntries(IN_RECIPE.map((k) => [k, flat[k]])) as unknown as Recipe
}

/** The settings that change a sheet's recipe: the project's own one, or the named one that it uses. */
export function withRecipe(settings: Settings, sheet: Sheet, part: Partial<Recipe>): Partial<Settings> {
  if (!sheet.recipe) return part
  const old = settings.recipes?.[sheet.recipe] ?? recipeOf(settings)
  return { recipes: { ...settings.recipes, [sheet.recipe]: { ...old, ...part } } }
}

/** The settings that change a sheet. */
export function withSheet(settings: Settings, id: number, part: Partial<Sheet>): Partial<Settings> {
  return { sheets: sheetsOf(settings).map((s) => (s.id === id ? { ...s, ...part } : s)) }
}

/** UDIM numbers of a sheet's tiles, row by row: 1001 + column + 10 x row. */
export function tilesOf(sheet: Sheet): number[] {
  return Array.from({ length: sheet.rows * sheet.columns }, (_, k) => {
    return 1001 + (k % sheet.columns) + 10 * Math.floor(k / sheet.columns)
  })
}

/** Tiles as they are typed: "1001-1004, 1011". */
export function ranges(tiles: Iterable<number>): string {
  const out: [first: number, last: number][] = []
  for (const t of [...tiles].sort((a, b) => a - b)) {
    const end = out[out.length - 1]
    if (end && t === end[1] + 1) end[1] = t
    else out.push([t, t])
  }
  return out.map(([a, b]) => (a === b ? `${a}` : `${a}-${b}`)).join(', ')
}

export function placeOf(tile: number): [column: number, row: number] {
  return [(tile - 1001) % 10, Math.floor((tile - 1001) / 10)]
}

/** px of a tile. */
export function pxOf(flat: Flat, tile: number): number {
  return flat.sheet.tile_px?.[tile] ?? flat.map_px
}

/** The sheet that an island lies on: its own, or its object's, or the first. */
export function sheetOfIsland(settings: Settings, file: number, object: number, island: number): number {
  const of = settings.sheet_of ?? {}
  return of[`${file}:${island}`] ?? of[`${file}/${object}`] ?? sheetsOf(settings)[0].id
}

/** What holds for objects and islands by key, with something else for some; islands of these objects follow them. */
function ruled(state: State, old: Record<string, number> | undefined, keys: Iterable<string>, value: number) {
  const of = { ...old }
  for (const key of keys) {
    const o = state.objects.find((x) => x.key === key)
    if (o) for (const i of numbersOf(o)) delete of[`${o.file}:${i}`]
    of[key] = value
  }
  return of
}

/** The settings that send objects and islands (keys) to a tile, or anywhere (0). */
export function sent(state: State, keys: Iterable<string>, tile: number): Partial<Settings> {
  const of = ruled(state, state.settings.tile_of, keys, tile)
  // An island says that it goes anywhere only against its object.
  for (const [key, t] of Object.entries(of)) {
    const own = key.includes(':') && objectOf(state, key)
    if (!t && !(own && of[own.key])) delete of[key]
  }
  return { tile_of: of }
}

/** The tile that an island belongs to: its own, or its object's; 0 for any. */
export function tileOfIsland(settings: Settings, file: number, object: number, island: number): number {
  const of = settings.tile_of ?? {}
  return of[`${file}:${island}`] ?? of[`${file}/${object}`] ?? 0
}

/** What a tile is called: its number, and its name where it has one. */
export function nameOfTile(sheet: Sheet, tile: number): string {
  const name = sheet.tile_names?.[tile]
  return name ? `${tile} ${name}` : String(tile)
}

/** The settings that move objects and islands (keys) to a sheet; islands of moved objects follow them. */
export function assigned(state: State, keys: Iterable<string>, id: number): Partial<Settings> {
  const of = ruled(state, state.settings.sheet_of, keys, id)
  const first = sheetsOf(state.settings)[0].id
  for (const [key, sheet] of Object.entries(of)) if (sheet === first && key.includes('/')) delete of[key]
  return { sheet_of: of }
}
