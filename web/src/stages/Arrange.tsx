import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { sheetBy, sheetsOf } from '../scene/sheets'
import { apart } from '../scene/units'
import { useParts } from '../store'
import { Belonging } from './arrange/Belonging'
import { Batch } from './arrange/Batch'
import { Hand } from './arrange/Hand'
import { Held } from './arrange/Held'
import { Made } from './arrange/Made'
import { Planner } from './arrange/Planner'
import { RecipePanel, SizeAndGaps } from './arrange/RecipePanel'
import { Section } from './arrange/Section'
import { Sheets } from './arrange/Sheets'
import { Tiles } from './arrange/Tiles'
import { valuesOf } from './arrange/values'
import { Explain } from './Explain'
import { Main, Title } from './parts'
import { Rules } from './Rules'
import { counted, perMetre, plain } from '../words'

export function Arrange() {
  const { state, sheet, job, start, summary } = useParts('state', 'sheet', 'job', 'start', 'summary')
  if (!state) return null
  const now = sheetBy(state.settings, sheet)
  const many = sheetsOf(state.settings).length > 1
  const row = state.sheets.find((r) => r.id === now.id)
  const islands = row?.islands ?? 0
  const values = valuesOf(state, sheet)
  const stale = state.sheets.filter((r) => r.islands && (!r.kept || r.stale.length))
  return (
    <>
      <Title text="Which objects share which sheet, and how they are packed.">Arrange</Title>
      <SizesApart sheet={now.id} />
      <Main disabled={!!job || !islands} onClick={() => void start('pack', { sheets: [now.id] })}>
        Pack {many ? now.name : 'this sheet'}
      </Main>
      <Held sheet={now.id} />
      <Flex gap="1" mt="1" align="center">
        <Text color="faded" flex="1">
          {counted(islands, 'island')} of{' '}
          {counted(state.objects.filter((o) => !o.left_out && o.sheets.includes(now.id)).length, 'object')}
        </Text>
        {many && (
          <Button
            size="xs"
            variant="outline"
            disabled={!!job || !stale.length}
            title={stale.map((r) => r.name).join(', ')}
            onClick={() => void start('pack', { sheets: 'stale' })}
          >
            Pack what is stale ({stale.length})
          </Button>
        )}
      </Flex>
      <Flex gap="1" mt="1" wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || !row?.kept}
          title="Search on from the layout as it is, for the recipe's time"
          onClick={() => void start('pack', { sheets: [now.id], go_on: true })}
        >
          Go on from this layout
        </Button>
        {many && (
          <Button
            size="xs"
            variant="ghost"
            disabled={!!job}
            title="Every sheet with islands, stale or not"
            onClick={() => void start('pack', { sheets: state.sheets.filter((r) => r.islands).map((r) => r.id) })}
          >
            Pack all again
          </Button>
        )}
        {many && stale.length > 1 && (
          <Button
            size="xs"
            variant="ghost"
            disabled={!!job}
            title="Packs the next stale sheet only, so that it can be looked at"
            onClick={() => void start('pack', { sheets: [stale[0].id] })}
          >
            The next stale one
          </Button>
        )}
      </Flex>
      {!!row?.stale.length && (
        <Text color="madder" mt="1">
          Stale: {row.stale.join('; ')}.
        </Text>
      )}
      {summary.length > 1 && (
        <Box mt="2" role="status">
          {summary.map((r) => (
            <Text key={r.name}>
              {r.name}
              {r.recipe && `, ${r.recipe}`}: {r.was === null ? '' : `${(100 * r.was).toFixed(1)} to `}
              {(100 * r.coverage).toFixed(1)} %, {perMetre(r.density)}, {r.seconds} s
            </Text>
          ))}
        </Box>
      )}
      <Made />
      <Section name="Size and gaps" usual value={values.size}>
        <SizeAndGaps />
      </Section>
      <Section name="Tiles" value={values.tiles}>
        <Tiles />
      </Section>
      <Section name="Chosen parts to chosen tiles" value={values.sent}>
        <Belonging />
      </Section>
      <Section name="Rules" value={values.rules}>
        <Rules />
      </Section>
      <Section name="What limits this layout?" usual>
        <Explain />
      </Section>
      <Section name="Sheets" usual={many} value={values.sheets}>
        <Sheets />
      </Section>
      <Section name="Recipe" value={values.recipe}>
        <RecipePanel />
      </Section>
      <Section name="Plan">
        <Planner />
      </Section>
      <Section name="Try several recipes">
        <Batch />
      </Section>
      <Section name="By hand">
        <Hand />
      </Section>
    </>
  )
}

// Between a coin and a house; more is a unit that was mistaken (common practice, no source).
const APART = 100

/** Files of one sheet whose sizes can hardly be meant so: evened, the small ones would get no texels. */
function SizesApart({ sheet }: { sheet: number }) {
  const { state, setStage } = useParts('state', 'setStage')
  const here = new Set(state?.objects.filter((o) => !o.left_out && o.sheets.includes(sheet)).map((o) => o.file))
  const times = apart(state?.files.filter((f) => here.has(f.id)) ?? [])
  if (times < APART) return null
  return (
    <Flex role="note" align="center" gap="1" mb="2" fontSize="xs">
      <Text flex="1" color="madder">
        The largest file of this sheet is {plain(times, 2)} times as large as the smallest. Is a unit wrong?
      </Text>
      <Button size="2xs" variant="outline" onClick={() => setStage('Gather')}>
        Look at units
      </Button>
    </Flex>
  )
}
