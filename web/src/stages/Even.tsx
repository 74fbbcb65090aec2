import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { api, words, type Settings } from '../api/client'
import { ownPictures } from '../scene/pictures'
import { flatOf, tilesOf, withRecipe, type Recipe } from '../scene/sheets'
import { histogram, readDensity, target } from '../scene/states'
import { selectedIslands, useParts } from '../store'
import { measuredPx } from '../store/under'
import { Held } from './arrange/Held'
import { Tick } from './deliver/Extras'
import { Choice, Figure, Main, NumberField, OptionalNumber, Setting, Title, Whom } from './parts'
import { perMetre, plain } from '../words'

const both = (d: number) => `${perMetre(d)}, ${plain(d / 100, 3)} px/cm`

/** Density read, set, weighted, and held to limits. */
export function Even() {
  const { state, pieces, selection, job, change, start, setStage, note, sheet } = useParts(
    'state',
    'pieces',
    'selection',
    'job',
    'change',
    'start',
    'setStage',
    'note',
    'sheet',
  )
  const [weight, setWeight] = useState(1)
  if (!state?.figures) return <Title text="Bring in a mesh first.">Even</Title>
  const { settings } = state
  const s = flatOf(settings, sheet)
  const set = (part: Partial<Settings>) => void change({ settings: part })
  const recipe = (part: Partial<Recipe>) => set(withRecipe(settings, s.sheet, part))
  const found = readDensity(pieces, state, selection)
  const wanted = target(state, sheet)
  const aim = (density: number) => recipe({ density: Number(density.toPrecision(6)), hold: true })
  const weigh = () => {
    const weights = { ...s.weights }
    for (const key of selection)
      if (weight === 1) delete weights[key]
      else weights[key] = weight
    set({ weights })
  }
  return (
    <>
      <Title text="One texel density, with weights where it should differ.">Even</Title>
      <Whom />
      <Figure name="Median" value={found ? both(found.median) : 'none'} />
      <Figure name="Least" value={found ? both(found.least) : 'none'} />
      <Figure name="Greatest" value={found ? both(found.greatest) : 'none'} />
      <Figure name="Mean by area" value={found ? both(found.mean) : 'none'} />
      <Flex gap="1" my="2" wrap="wrap">
        <Button size="2xs" variant="outline" disabled={!found || !!job} onClick={() => found && aim(found.median)}>
          Take the median as the target
        </Button>
        <Button size="2xs" variant="outline" disabled={!found || !!job} onClick={() => found && aim(found.mean)}>
          Take the mean
        </Button>
      </Flex>
      <Setting
        name="Target"
        text={
          s.hold ? 'Packing will hold this number too.' : 'The median as it is; packing finds the highest that fits.'
        }
      >
        <NumberField
          name="Target density"
          value={Number((wanted ?? 512).toPrecision(6))}
          unit="px/m"
          least={0.001}
          most={1e7}
          set={aim}
        />
      </Setting>
      <Held sheet={sheet} />
      <Main
        disabled={!!job || !wanted}
        onClick={() => void start('mend', { action: 'even', density: wanted, islands: selectedIslands() })}
      >
        {selection.size ? 'Even the selection' : 'Even all islands'}
      </Main>
      <Flex gap="1" mt="1" wrap="wrap" align="center">
        <Most />
        <Material />
      </Flex>
      <Text role="status" color="moss" minH="5" mt="1">
        {note}
      </Text>
      <Histogram bins={histogram(pieces, state)} />
      <Setting name="Weight" text="A factor on the target for the selection: 0.5 is half as sharp, on purpose.">
        <Flex gap="1">
          <NumberField name="Weight" value={weight} unit="×" least={0.001} most={1000} set={setWeight} />
          <Button size="xs" variant="outline" disabled={!selection.size || !!job} onClick={weigh}>
            Set
          </Button>
        </Flex>
      </Setting>
      <Setting name="Band" text="What is within it counts as even.">
        <NumberField name="Band" value={s.band ?? 10} unit="± %" least={0} most={1000} set={(band) => set({ band })} />
      </Setting>
      <Setting name="Least of the team" text="Anything below is a point in Inspect. Empty: no limit.">
        <OptionalNumber
          name="Least density"
          value={s.density_least ?? null}
          unit="px/m"
          set={(density_least) => set({ density_least })}
        />
      </Setting>
      <Setting name="Greatest of the team" text="Anything above is a point in Inspect. Empty: no limit.">
        <OptionalNumber
          name="Greatest density"
          value={s.density_greatest ?? null}
          unit="px/m"
          set={(density_greatest) => set({ density_greatest })}
        />
      </Setting>
      <Under />
      <Beyond />
      <Match />
      <Flex gap="3" mb="3" color="indigo" textDecoration="underline">
        <a href={`/api/projects/${state.id}/density.csv`}>Density report, CSV</a>
        <a href={`/api/projects/${state.id}/density.json`}>JSON</a>
      </Flex>
      <Main onClick={() => setStage('Arrange')}>Next: arrange</Main>
    </>
  )
}

/** Texels by how far their density is off the target. */
function Histogram({ bins }: { bins: number[] }) {
  const most = Math.max(...bins, 1e-30)
  const width = 240 / bins.length
  return (
    <Box mb="3">
      <Text fontSize="xs" color="faded">
        Texels by density, from a sixteenth of the target to sixteen times
      </Text>
      <svg width="240" height="44" role="img" aria-label="Texels by density against the target">
        {bins.map((b, i) => (
          <rect
            key={i}
            x={i * width}
            width={width - 1}
            y={40 - (38 * b) / most}
            height={(38 * b) / most}
            fill={`var(--chakra-colors-${i < 15 ? 'starved' : i > 17 ? 'lavish' : 'indigo'})`}
          />
        ))}
        <line x1="0" x2="240" y1="40.5" y2="40.5" stroke="var(--chakra-colors-thread)" />
        <line x1="120" x2="120" y1="0" y2="44" stroke="var(--chakra-colors-indigo)" strokeDasharray="4 2" />
      </svg>
    </Box>
  )
}

/** Take the density that packing this sheet is expected to reach as the target. */
function Most() {
  const { state, sheet, change, say, job } = useParts('state', 'sheet', 'change', 'say', 'job')
  const take = async () => {
    if (!state) return
    const s = flatOf(state.settings, sheet)
    const { data, error } = await api.POST('/api/projects/{project_id}/plan', {
      params: { path: { project_id: state.id } },
      body: { sheet: s.sheet.id },
    })
    if (!data) return say(words(error))
    const density = Number(data.density[1].toPrecision(4))
    await change({ settings: withRecipe(state.settings, s.sheet, { density, hold: true }) })
  }
  return (
    <Button size="2xs" variant="outline" disabled={!!job} onClick={() => void take()}>
      Take the most that fits the sheet
    </Button>
  )
}

/** Select everything of one material, to even it. */
function Material() {
  const { state, select } = useParts('state', 'select')
  const names = [...new Set(state?.objects.flatMap((o) => o.materials) ?? [])].sort()
  if (names.length < 2) return null
  return (
    <Choice
      label="Select by material"
      value=""
      options={[['', 'select a material...'], ...names.map((n) => [n, n] as const)]}
      set={(name) => name && select((state?.objects ?? []).filter((o) => o.materials.includes(name)).map((o) => o.key))}
    />
  )
}

/** A picture under the islands, so that they can be placed against it. */
function Under() {
  const { state, sheet, change, putPicture, job } = useParts('state', 'sheet', 'change', 'putPicture', 'job')
  const [chosen, setChosen] = useState(1001)
  if (!state) return null
  const s = flatOf(state.settings, sheet)
  const tiles = tilesOf(s.sheet)
  const tile = tiles.includes(chosen) ? chosen : tiles[0]
  const key = `${s.sheet.id}:${tile}`
  const own = ownPictures(state)
  const now = state.settings.pictures?.[key]
  const named = now && !own.some((p) => p.sha === now.sha) ? [...own, now] : own
  const put = (sha: string) => {
    const pictures = { ...state.settings.pictures }
    const found = named.find((p) => p.sha === sha)
    if (found) pictures[key] = { sha: found.sha, name: found.name }
    else delete pictures[key]
    void change({ settings: { pictures } })
  }
  return (
    <Setting
      name="Picture under the islands"
      text="On the table, dimmed at will; the model can wear it. Or drop one on a tile."
    >
      <Flex gap="1" wrap="wrap" justify="flex-end">
        {tiles.length > 1 && (
          <Choice
            label="Tile of the picture"
            value={String(tile)}
            options={tiles.map((t) => [String(t), String(t)] as const)}
            set={(t) => setChosen(Number(t))}
          />
        )}
        <Choice
          label="Picture under the islands"
          value={now?.sha ?? ''}
          options={[['', 'none'], ...named.map((p) => [p.sha, p.name] as const)]}
          disabled={!!job}
          set={put}
        />
        <input
          type="file"
          accept="image/*"
          hidden
          data-testid="picture"
          onChange={(e) => {
            const file = e.target.files?.[0]
            if (file) void putPicture(tile, file)
          }}
        />
      </Flex>
    </Setting>
  )
}

/** Whether the picture of a single tile is shown beyond it. */
function Beyond() {
  const { state, sheet, tiled, setTiled } = useParts('state', 'sheet', 'tiled', 'setTiled')
  if (!state) return null
  const s = flatOf(state.settings, sheet)
  if (s.sheet.columns * s.sheet.rows > 1 || !state.settings.pictures?.[`${s.sheet.id}:1001`]) return null
  return (
    <Tick on={tiled} set={setTiled}>
      <Text fontSize="xs">It goes on beyond the tile, as where it repeats</Text>
    </Tick>
  )
}

/** The size of texels by something of the picture whose real length is known. */
function Match() {
  const { state, sheet, measured, picks, setPicks, start, job } = useParts(
    'state',
    'sheet',
    'measured',
    'picks',
    'setPicks',
    'start',
    'job',
  )
  const [cm, setCm] = useState(20)
  const px = measuredPx({ state, sheet, measured })
  return (
    <Box mb="3">
      <Text fontWeight="600">Match the picture</Text>
      <Text color="faded" fontSize="xs" mb="1">
        Click both ends of a brick or a plank on the table, and say how long it really is: the selection, or all, gets
        that density.
      </Text>
      <Flex gap="1" align="center" wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          {...(picks === 'measure' && { bg: 'indigo', color: 'sheet' })}
          aria-pressed={picks === 'measure'}
          onClick={() => setPicks(picks === 'measure' ? 'objects' : 'measure')}
        >
          {px ? `${px.toFixed(1)} px` : measured.length ? 'and the other end' : 'Measure'}
        </Button>
        <Text fontSize="xs">is</Text>
        <NumberField name="Real length" value={cm} unit="cm" least={0.001} most={1e6} set={setCm} />
        <Button
          size="xs"
          variant="outline"
          disabled={!px || !!job}
          onClick={() => void start('mend', { action: 'even', density: (100 * px) / cm, islands: selectedIslands() })}
        >
          Match
        </Button>
      </Flex>
    </Box>
  )
}
