import { Box, Button, Flex, Text } from '@chakra-ui/react'
import type { Settings } from '../api/client'
import { flatOf, withRecipe } from '../scene/sheets'
import { useParts, useQuilt, type Explanation } from '../store'

type Hint = Explanation['hints'][number]

const RULES: Record<string, string> = {
  bunches: 'Bunches stay together',
  apart: 'Materials keep apart',
  held: 'Held islands stay',
  rotations: 'Turns set for single parts',
  tile_of: 'Parts belong to tiles',
  rotate: 'No turning by 90°',
  texel_grid: 'Edges on whole texels',
  free: 'Regions kept free',
}

/** What limits the layout, and what each action would gain: measured by trying it. */
export function Explain() {
  const { state, explanation, job, start, select, sheet } = useParts(
    'state',
    'explanation',
    'job',
    'start',
    'select',
    'sheet',
  )
  if (!state?.objects.some((o) => o.islands)) return null
  // What was found for one sheet says nothing about another.
  const found = explanation?.sheet === sheet ? explanation : null
  // What was measured under other rules, or of another layout, would not come true.
  const stale = found?.base !== state.snapshot
  const keys = (islands: [number, number][]) => islands.map(([file, i]) => `${file}:${i}`)
  return (
    <Box>
      <Text color="faded" fontSize="xs" mb="2">
        Each action is tried in a short packing of its own, so its gain is measured.
      </Text>
      <Button size="xs" variant="outline" disabled={!!job} onClick={() => void start('explain', { sheets: [sheet] })}>
        Try what would help
      </Button>
      {found && (
        <Box mt="2" role="status">
          {[...found.long, ...found.large].length > 0 && (
            <Flex align="center" gap="1" mb="1">
              <Text flex="1">
                {found.long.length} islands span most of the tile, {found.large.length} fill much of it.
              </Text>
              <Button
                size="2xs"
                variant="ghost"
                onClick={() => select(keys([...found.long, ...found.large]), false, true)}
              >
                Show
              </Button>
            </Flex>
          )}
          {stale && <Text color="madder">Stale: the project changed since. Try again.</Text>}
          {found.hints.map((h) => (
            <HintRow key={h.kind} hint={h} keys={keys(h.islands)} stale={stale} />
          ))}
          {!found.hints.length && <Text>Nothing that was tried gains half a percent.</Text>}
          {!!found.prices?.length && (
            <Box mt="2" role="list" aria-label="What the rules cost">
              <Text color="faded">What each rule costs:</Text>
              {found.prices.map((p) => (
                <Flex key={p.rule} role="listitem" gap="2">
                  <Text flex="1">{RULES[p.rule] ?? p.rule}</Text>
                  <Text
                    fontWeight="600"
                    title={`Without it the density would be ${((p.gain - 1) * 100).toFixed(1)} % higher`}
                  >
                    {((1 - 1 / p.gain) * 100).toFixed(1)} % of the density
                  </Text>
                </Flex>
              ))}
            </Box>
          )}
        </Box>
      )}
    </Box>
  )
}

/** The islands of a hint, each cut in two across. */
function halves(h: Hint) {
  const islands: Record<string, number[]> = {}
  for (const [file, i] of h.islands) (islands[file] ??= []).push(i)
  return { operation: 'across', parts: 2, islands }
}

function HintRow({ hint: h, keys, stale }: { hint: Hint; keys: string[]; stale: boolean }) {
  const { state, change, select, start, job, sheet } = useParts('state', 'change', 'select', 'start', 'job', 'sheet')
  // What was measured is the layout after it: an offer packs, too.
  const again = ['pack', { sheets: [sheet] }] as const
  const obey = async () => {
    await change({ settings: does[h.kind] })
    if (!useQuilt.getState().message) await start(...again)
  }
  const flat = state && flatOf(state.settings, sheet)
  const many = keys.length === 1 ? 'the longest island' : `the ${keys.length} longest islands`
  const words: Record<string, string> = {
    padding: `Padding ${h.value} px instead of ${flat?.padding_px} px`,
    margin: `Margin ${h.value} px instead of ${flat?.margin_px} px`,
    turn: `Let ${many} turn freely`,
    turn_all: 'Let all islands turn by 90°',
    cut: 'Cut the longest island in two, and pack again',
  }
  const rotations = { ...state?.settings.rotations, ...Object.fromEntries(keys.map((k) => [k, 'free'])) }
  const does: Record<string, Partial<Settings>> = {
    padding: state && flat ? withRecipe(state.settings, flat.sheet, { padding_px: Number(h.value) }) : {},
    margin: state && flat ? withRecipe(state.settings, flat.sheet, { margin_px: Number(h.value) }) : {},
    turn: { rotations },
    turn_all: state && flat ? withRecipe(state.settings, flat.sheet, { rotate: '90' }) : {},
  }
  return (
    <Flex align="center" gap="1" py="1" borderBottom="1px dashed" borderColor="thread">
      <Text flex="1">{words[h.kind]}</Text>
      <Text fontWeight="600" color="moss">
        +{((h.gain - 1) * 100).toFixed(1)} %
      </Text>
      {does[h.kind] ? (
        <Button
          size="2xs"
          variant="outline"
          disabled={!!job || stale}
          title="Changes the rule and packs this sheet again"
          onClick={() => void obey()}
        >
          Do it
        </Button>
      ) : (
        <>
          <Button size="2xs" variant="ghost" onClick={() => select(keys, false, true)}>
            Show
          </Button>
          {h.kind === 'cut' && (
            <Button
              size="2xs"
              variant="outline"
              disabled={!!job || stale}
              title="Cuts it and packs this sheet again"
              onClick={() => void start('seams', halves(h), again)}
            >
              Cut it
            </Button>
          )}
        </>
      )}
    </Flex>
  )
}
