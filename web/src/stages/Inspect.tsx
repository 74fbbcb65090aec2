import { Box, Button, Text } from '@chakra-ui/react'
import { useEffect } from 'react'
import type { Fault } from '../api/client'
import { counted, plain } from '../words'
import { useParts } from '../store'
import { Figure, Main, Title } from './parts'
import { ODD } from '../scene/geometry'
import { sheetBy } from '../scene/sheets'
import { useFaults } from './faultSteps'
import { Card } from './Card'
import { Sizes } from './gather/Sizes'

/** Everything wrong with the layout: how many, where, and what to do. */
export function Inspect() {
  const { state, faults, setStage, select, setOdd } = useParts('state', 'faults', 'setStage', 'select', 'setOdd')
  const walk = useFaults()
  useEffect(() => setOdd(ODD.turned | (ODD[walk.kind] ?? 0)), [walk.kind, setOdd])
  if (!state?.figures)
    return <Title text="Bring in a mesh first: then everything wrong with it is listed here.">Inspect</Title>
  const kinds = faults.filter((f) => f.heavy > 0).length
  const bare = state.objects.filter((o) => !o.islands && !o.left_out && !o.detail_of)
  const partly = state.objects.filter((o) => o.islands && o.bare && !o.left_out)
  const given = state.objects.filter((o) => o.detail_of && !o.left_out)
  const extra = (bare.length ? 1 : 0) + (partly.length ? 1 : 0)
  const mending = extra > 0 || faults.some((f) => f.repair && f.repair !== 'even')
  const known = state.objects.flatMap((o) => (o.density && !o.left_out ? [o.density] : []))
  const factor = known.length ? Math.max(...known.map((d) => d.greatest)) / Math.min(...known.map((d) => d.least)) : 1
  const shared = state.objects.filter((o) => o.shares.length).length
  return (
    <>
      <Title text="What is in the files and what is wrong with their UVs.">Inspect</Title>
      <Sizes />
      <Figure name="Objects" value={String(state.objects.length)} />
      <Figure name="Islands" value={String(state.figures.islands)} />
      <Figure
        name="Sharpest island against the most blurred"
        value={`${plain(factor, factor < 10 ? 2 : 3)} times`}
        good={factor < 1.2}
      />
      <Text fontWeight="600" mt="4" mb="1">
        {kinds + extra ? `${counted(kinds + extra, 'kind')} of fault, the heaviest first` : 'No faults found'}
      </Text>
      {bare.length > 0 && (
        <Card
          title={bare.length === 1 ? '1 object has no UVs' : `${bare.length} objects have no UVs`}
          heavy={3}
          text="They get no texels. Unwrap them in Mend."
        >
          <Button
            size="2xs"
            variant="outline"
            onClick={() =>
              select(
                bare.map((o) => o.key),
                false,
                true,
              )
            }
          >
            Select
          </Button>
        </Card>
      )}
      {partly.length > 0 && (
        <Card
          title={`${partly.reduce((n, o) => n + o.bare, 0)} faces of ${partly.length === 1 ? '1 object' : `${partly.length} objects`} have no UVs`}
          heavy={3}
          text="They get no texels, while the rest of the object does. Unwrap the object in Mend."
        >
          <Button
            size="2xs"
            variant="outline"
            onClick={() => {
              setOdd(ODD.no_uv)
              select(
                partly.map((o) => o.key),
                false,
                true,
              )
            }}
          >
            Show them on the model
          </Button>
        </Card>
      )}
      {faults.map((f) => (
        <FaultCard
          key={`${f.sheet} ${f.kind}`}
          fault={f}
          sheet={state.sheets.length > 1 ? sheetBy(state.settings, f.sheet).name : ''}
          here={walk.kind === f.kind && walk.sheet === f.sheet ? walk.index : null}
          go={walk.go}
        />
      ))}
      {given.length > 0 && (
        <Text color="faded" my="2">
          {given.length === 1 ? `${given[0].name} has` : `${counted(given.length, 'object')} have`} no UVs and need
          {given.length === 1 ? 's' : ''} none: {given.length === 1 ? given[0].detail_of : 'their low meshes'}{' '}
          {given.length === 1 ? 'is' : 'are'} baked from {given.length === 1 ? 'it' : 'them'}.
        </Text>
      )}
      {shared > 0 && (
        <Text color="faded" my="2">
          {shared} objects share a mesh with others, so they share its islands and texels. Density is set by the
          largest.
        </Text>
      )}
      <Box mt="3">
        <Main onClick={() => setStage(mending ? 'Mend' : 'Even')}>
          {mending ? 'Next: mend' : 'Next: even the density'}
        </Main>
      </Box>
    </>
  )
}

const CLEAN_TURNED = { what: ['turned'] }

/** The islands of a fault by file; all where only the worst are known here. */
function grouped(f: Fault): Record<string, number[]> | null {
  if (f.islands.length >= 2000) return null
  const out: Record<string, number[]> = {}
  for (const [file, i] of f.islands) (out[file] ??= []).push(i)
  return out
}

function FaultCard({
  fault: f,
  sheet,
  here,
  go,
}: {
  fault: Fault
  /** Name of its sheet, where there are several. */
  sheet: string
  here: number | null
  go: (kind: string, step: number, sheet: number) => void
}) {
  const { select, setStage, start, job } = useParts('select', 'setStage', 'start', 'job')
  const keys = f.islands.map(([file, i]) => `${file}:${i}`)
  return (
    <Card title={(sheet && `${sheet}: `) + f.title + (f.detail ? `, ${f.detail}` : '')} heavy={f.heavy} text={f.remedy}>
      {keys.length > 0 && (
        <>
          <Button size="2xs" variant="outline" onClick={() => select(keys, false, true)}>
            Select {keys.length < f.islands.length ? 'the worst' : 'all'}
          </Button>
          <Button size="2xs" variant="ghost" title="The one before (Shift+N)" onClick={() => go(f.kind, -1, f.sheet)}>
            ‹
          </Button>
          <Text fontSize="xs" color="faded">
            {here === null ? 'one by one' : `${here + 1} of ${keys.length}`}
          </Text>
          <Button size="2xs" variant="ghost" title="The next one (N)" onClick={() => go(f.kind, 1, f.sheet)}>
            ›
          </Button>
        </>
      )}
      {f.repair === 'even' && (
        <Button size="2xs" variant="ghost" onClick={() => setStage('Even')}>
          Even it
        </Button>
      )}
      {(f.repair === 'twins' || f.repair === 'untwin') && (
        <Button
          size="2xs"
          variant="outline"
          disabled={!!job}
          onClick={() => void start('twins', { on: f.repair === 'twins', islands: grouped(f) })}
        >
          {f.repair === 'twins' ? 'Mark as twins' : 'Unmark'}
        </Button>
      )}
      {f.repair === 'unwrap' && (
        <Button size="2xs" variant="ghost" onClick={() => setStage('Mend')}>
          Unwrap anew
        </Button>
      )}
      {f.repair === 'clean' && (
        <Button size="2xs" variant="outline" disabled={!!job} onClick={() => void start('clean', CLEAN_TURNED)}>
          Clean them
        </Button>
      )}
      {(f.repair === 'flip' || f.repair === 'into_tile') && (
        <Button
          size="2xs"
          variant="outline"
          disabled={!!job}
          onClick={() => void start('mend', { action: f.repair, islands: null })}
        >
          {f.repair === 'flip' ? 'Flip all back' : 'Bring all in'}
        </Button>
      )}
    </Card>
  )
}
