import { Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import type { Settings } from '../../api/client'
import { flatOf, IN_RECIPE, recipeOf, sheetBy, sheetsOf, withRecipe, withSheet, type Recipe } from '../../scene/sheets'
import { FileButton } from '../../frame/FileButton'
import { useParts } from '../../store'
import { Choice, NumberField, numbered, Setting } from '../parts'
import { ROTATIONS, turning, type Rotation } from '../rotations'
import { NameField } from '../parts'
import { SearchEnds } from './SearchEnds'
import { plain } from '../../words'
import { give } from '../../give'

const MAPS = [64, 128, 256, 512, 1024, 2048, 4096, 8192]
const AIMS = { fit: 'the highest that fits', hold: 'hold this number' }
const SIZES = { even: 'even the density', texels: 'keep their texels', uv: 'keep their UV sizes' }
const FILLS = { common: 'one scale over all tiles', each: 'each tile to its border' }
const NAMES: Record<string, string> = {
  padding_px: 'padding, px',
  margin_px: 'margin, px',
  rotate: 'turning',
  hold: 'holds a density',
  density: 'density, px/m',
  keep_ratios: 'keeps ratios',
  ratios: 'ratios of',
  fill: 'filling',
  mirror: 'mirrors',
  texel_grid: 'edges on whole texels',
  grid_percent: 'sizes change by, %',
  seconds: 'seconds',
  passes: 'passes',
  seed: 'seed',
}

/** A value of a recipe in words. */
const said = (key: string, value: unknown): string =>
  key === 'rotate'
    ? turning(value)
    : key === 'fill'
      ? FILLS[value as keyof typeof FILLS]
      : key === 'ratios'
        ? SIZES[value as 'uv' | 'texels']
        : typeof value === 'boolean'
          ? value
            ? 'yes'
            : 'no'
          : typeof value === 'number'
            ? plain(value)
            : String(value)

/** The recipe of the sheet that is shown, and how it is changed. */
function useRecipe() {
  const { state, sheet, change, setPreview, job } = useParts('state', 'sheet', 'change', 'setPreview', 'job')
  if (!state) return null
  const now = sheetBy(state.settings, sheet)
  const set = (part: Partial<Recipe>) => void change({ settings: withRecipe(state.settings, now, part) })
  return { state, now, s: flatOf(state.settings, sheet), set, change, setPreview, job }
}

/** What is touched most: how large the map is, the gaps, how islands turn, how dense they lie. */
export function SizeAndGaps() {
  const found = useRecipe()
  const [followed, setFollowed] = useState({ sheet: 0, map_px: 0, text: '' })
  if (!found) return null
  const { state, now, s, set, change, setPreview, job } = found
  const { settings } = state
  const half = s.margin_px === s.padding_px / 2
  const resize = (map_px: number) => {
    const k = map_px / (now.map_px ?? settings.map_px)
    const say = (text: string) => setFollowed({ sheet: now.id, map_px, text })
    // One sheet: the project's own size; the gaps keep their share of it.
    if (sheetsOf(settings).length === 1 && !now.recipe) {
      const gaps = { padding_px: settings.padding_px * k, margin_px: settings.margin_px * k }
      void change({ settings: { map_px, ...gaps } })
      say(
        `Padding and margin keep their share of the map: ${plain(gaps.padding_px)} and ${plain(gaps.margin_px)} px now.`,
      )
    } else {
      void change({ settings: withSheet(settings, now.id, { map_px }) })
      say(`Padding and margin stay ${plain(s.padding_px)} and ${plain(s.margin_px)} px: several sheets can share them.`)
    }
  }
  const usual = Math.max(1, (16 * s.map_px) / 2048)
  const levels = s.padding_px >= 1 ? Math.floor(Math.log2(s.padding_px)) : 0
  return (
    <>
      <Setting name="Map size" text="Padding and density are counted in pixels of this map.">
        <Choice
          label="Map size"
          value={String(now.map_px ?? settings.map_px)}
          options={numbered(MAPS, (m) => `${m} px`)}
          disabled={!!job}
          set={(m) => resize(Number(m))}
        />
      </Setting>
      {followed.sheet === now.id && followed.map_px === s.map_px && (
        <Text role="note" fontSize="xs" color="moss" mb="1">
          {followed.text}
        </Text>
      )}
      <Setting
        name="Padding"
        text={`Between islands; stays a pixel wide down to mip level ${levels}. ${usual} px is the safe habit at this size. The table shows half of it around each island.`}
      >
        <NumberField
          name="Padding"
          value={s.padding_px}
          unit="px"
          least={0}
          most={256}
          preview={(padding_px) => setPreview({ padding_px })}
          set={(padding_px) => set({ padding_px, ...(half && { margin_px: padding_px / 2 }) })}
        />
      </Setting>
      <Setting
        name="Margin"
        text={
          half
            ? 'To the border of the tile: half the padding, and follows it.'
            : `To the border of the tile. Half the padding, ${plain(s.padding_px / 2)} px, is usual: a repeated tile doubles it.`
        }
      >
        <NumberField
          name="Margin"
          value={s.margin_px}
          unit="px"
          least={0}
          most={256}
          preview={(margin_px) => setPreview({ margin_px })}
          set={(margin_px) => set({ margin_px })}
        />
      </Setting>
      <Setting name="Turn islands" text="Steps of 90° keep straight edges straight on the pixels.">
        <Choice
          label="Turn islands"
          value={s.rotate as Rotation}
          options={ROTATIONS}
          set={(rotate) => set({ rotate })}
        />
      </Setting>
      <Setting name="Density" text={s.hold ? 'What does not fit is named.' : 'As sharp as everything fits at.'}>
        <Choice
          label="Density"
          value={s.hold ? 'hold' : 'fit'}
          options={AIMS}
          set={(aim) => set({ hold: aim === 'hold' })}
        />
      </Setting>
      {s.hold && (
        <Setting name="Hold" text={`${plain(s.density / 100)} px/cm`}>
          <NumberField
            name="Held density"
            value={s.density}
            unit="px/m"
            least={0.001}
            most={1e7}
            set={(density) => set({ density })}
          />
        </Setting>
      )}
      {job && <Text fontSize="xs">Changes wait until the work is done.</Text>}
    </>
  )
}

/** How tiles of a sheet are filled against each other. */
export function Fill() {
  const found = useRecipe()
  if (!found) return null
  const { state, now, s, set } = found
  if (now.columns * now.rows < 2 || s.hold) return null
  const made = state.sheets.find((r) => r.id === now.id)?.figures?.tiles.filter((t) => t.density) ?? []
  const most = made.length ? made.reduce((a, b) => (a.density! > b.density! ? a : b)) : null
  const least = made.length ? made.reduce((a, b) => (a.density! < b.density! ? a : b)) : null
  return (
    <Setting
      name="Fill"
      text={
        s.fill === 'each' && most && least && most.tile !== least.tile
          ? `Tiles differ then: ${most.tile} is ${(most.density! / least.density!).toFixed(2)} times sharper than ${least.tile}.`
          : s.fill === 'each'
            ? 'Every tile is filled, so their densities will differ.'
            : 'The density is the same on every tile.'
      }
    >
      <Choice label="Fill" value={s.fill as 'common' | 'each'} options={FILLS} set={(fill) => set({ fill })} />
    </Setting>
  )
}

/** What else there is to a recipe, and recipes with names. */
export function RecipePanel() {
  const found = useRecipe()
  if (!found) return null
  const { state, now, s, set } = found
  return (
    <>
      <Setting
        name="Islands' sizes"
        text={
          !s.keep_ratios
            ? 'Every metre of the model gets as many texels as any other.'
            : s.ratios === 'texels'
              ? 'Each island stays as sharp against the others as its old picture made it: 1024 px count twice as much as 512.'
              : 'The islands stay as large against each other as they are in the UVs, whatever picture they were painted in.'
        }
      >
        <Choice
          label="Islands' sizes"
          value={s.keep_ratios ? (s.ratios as 'texels' | 'uv') : 'even'}
          options={SIZES}
          set={(size) => set({ keep_ratios: size !== 'even', ...(size !== 'even' && { ratios: size }) })}
        />
      </Setting>
      <Setting name="Mirror islands" text="Only for paint without letters: they would read backwards.">
        <Choice
          label="Mirror islands"
          value={s.mirror ? 'yes' : 'no'}
          options={{ no: 'never', yes: 'where it helps' }}
          set={(v) => set({ mirror: v === 'yes' })}
        />
      </Setting>
      <Setting
        name="Straight edges"
        text={
          s.texel_grid
            ? 'Those along the axes go to whole texels after packing, gaps and margin stay. Each packing has UVs of its own then: undo brings an earlier one back.'
            : 'For light maps and hard-edged paint they can lie on whole texels.'
        }
      >
        <Choice
          label="Straight edges"
          value={s.texel_grid ? 'grid' : 'free'}
          options={{ free: 'where they fall', grid: 'on whole texels' }}
          set={(v) => set({ texel_grid: v === 'grid' })}
        />
      </Setting>
      {s.texel_grid && (
        <Setting name="Sizes change by" text="At most, along each axis. What needs more keeps its size and is counted.">
          <NumberField
            name="Change of sizes"
            value={s.grid_percent}
            unit="%"
            least={0}
            most={20}
            set={(grid_percent) => set({ grid_percent })}
          />
        </Setting>
      )}
      <SearchEnds state={state} sheet={now.id} recipe={s} set={set} />
      <Setting name="Seed" text="Another number searches in another way.">
        <NumberField name="Seed" value={s.seed} unit="" least={0} most={1e9} whole set={(seed) => set({ seed })} />
      </Setting>
      <Recipes />
    </>
  )
}

/** Which recipe the sheet uses; recipes are named, copied, compared, given away and taken in. */
function Recipes() {
  const { state, sheet, change, say } = useParts('state', 'sheet', 'change', 'say')
  const [other, setOther] = useState('')
  if (!state) return null
  const { settings } = state
  const now = sheetBy(settings, sheet)
  const recipes = settings.recipes ?? {}
  const names = Object.keys(recipes)
  const use = (recipe: string) => void change({ settings: withSheet(settings, now.id, { recipe }) })
  const free = (name: string) => {
    let n = 2
    let out = name
    while (recipes[out]) out = `${name} ${n++}`
    return out
  }
  const keep = () => {
    const name = free(now.recipe || 'My recipe')
    const own = recipeOf(flatOf(settings, sheet))
    void change({
      settings: { recipes: { ...recipes, [name]: own }, ...withSheet(settings, now.id, { recipe: name }) },
    })
  }
  const rename = (name: string) => {
    if (recipes[name]) return say(`There is a recipe '${name}' already.`)
    const next: NonNullable<Settings['recipes']> = {}
    for (const [k, v] of Object.entries(recipes)) next[k === now.recipe ? name : k] = v
    const sheets = sheetsOf(settings).map((s) => (s.recipe === now.recipe ? { ...s, recipe: name } : s))
    void change({ settings: { recipes: next, sheets } })
  }
  const drop = () => {
    const next = { ...recipes }
    delete next[now.recipe]
    const sheets = sheetsOf(settings).map((s) => (s.recipe === now.recipe ? { ...s, recipe: '' } : s))
    void change({ settings: { recipes: next, sheets } })
  }
  const giveIt = () => {
    const own = { name: now.recipe || 'project', ...recipeOf(flatOf(settings, sheet)) }
    give(`${own.name}.recipe.json`, JSON.stringify(own, null, 2), 'application/json')
  }
  const take = async (file: File) => {
    try {
      const read = JSON.parse(await file.text()) as Record<string, unknown>
      const base = recipeOf(settings) as unknown as Record<string, unknown>
      const counts = read.passes === null || typeof read.passes === 'number'
      const known = IN_RECIPE.filter((k) => (k === 'passes' ? counts : typeof read[k] === typeof base[k]))
      if (!known.length) throw new Error()
      const own = { ...base, ...Object.fromEntries(known.map((k) => [k, read[k]])) } as unknown as Recipe
      const name = free(typeof read.name === 'string' && read.name.trim() ? read.name.trim() : 'Taken in')
      await change({
        settings: { recipes: { ...recipes, [name]: own }, ...withSheet(settings, now.id, { recipe: name }) },
      })
    } catch {
      say(`${file.name} is no recipe: it has to be JSON with padding_px, margin_px and so on.`)
    }
  }
  const compared = other && recipes[other] ? recipes[other] : null
  const mine = recipeOf(flatOf(settings, sheet))
  const differ = compared ? IN_RECIPE.filter((k) => mine[k] !== compared[k]) : []
  return (
    <>
      <Setting
        name="Recipe"
        text="Gaps, turning, density and what stands here, under a name, for any number of sheets."
      >
        <Choice
          label="Recipe"
          value={now.recipe}
          options={[['', "the project's own"], ...names.map((n) => [n, n] as const)]}
          set={use}
        />
      </Setting>
      <Flex gap="1" wrap="wrap" mb="2">
        <Button size="2xs" variant="outline" onClick={keep}>
          {now.recipe ? 'Copy' : 'Keep under a name'}
        </Button>
        <Button size="2xs" variant="outline" onClick={giveIt}>
          Save as JSON
        </Button>
        <FileButton size="2xs" testId="recipe-file" accept=".json" take={(files) => void take(files[0])}>
          Take in JSON
        </FileButton>
        {now.recipe && (
          <Button size="2xs" variant="ghost" onClick={drop}>
            Delete
          </Button>
        )}
      </Flex>
      {now.recipe && (
        <Setting name="Its name" text="Sheets that use it follow.">
          <NameField label="Name of the recipe" value={now.recipe} set={rename} />
        </Setting>
      )}
      {names.some((n) => n !== now.recipe) && (
        <Setting
          name="Compare with"
          text={
            compared
              ? differ.length
                ? differ.map((k) => `${NAMES[k]}: ${said(k, mine[k])}, there ${said(k, compared[k])}`).join('; ')
                : 'They are the same.'
              : 'What is other in another recipe.'
          }
        >
          <Choice
            label="Compare with"
            value={other}
            options={[['', 'nothing'], ...names.filter((n) => n !== now.recipe).map((n) => [n, n] as const)]}
            set={setOther}
          />
        </Setting>
      )}
    </>
  )
}
