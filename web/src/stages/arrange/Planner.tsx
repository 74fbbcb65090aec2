import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useState } from 'react'
import { api, words } from '../../api/client'
import type { components } from '../../api/schema'
import { FIRST, flatOf, sheetsOf } from '../../scene/sheets'
import { useParts } from '../../store'
import { Choice, Figure, NumberField, Setting } from '../parts'
import { perMetre, plain } from '../../words'

type Plan = components['schemas']['PlanOut']
const BY = { material: 'of one material', folder: 'of one folder', file: 'of one file', nothing: 'nothing' }
const WIDE = 240
const HIGH = 78

/** What the sheet will reach, before anything is packed; and a split of the objects over sheets. */
export function Planner() {
  const { state, sheet, job, change, say, setSheet } = useParts('state', 'sheet', 'job', 'change', 'say', 'setSheet')
  const flat = state && flatOf(state.settings, sheet)
  const [wanted, setWanted] = useState(flat?.density ?? 512)
  const [plan, setPlan] = useState<Plan | null>(null)
  const [count, setCount] = useState(2)
  const [by, setBy] = useState<keyof typeof BY>('material')
  useEffect(() => {
    let gone = false
    if (!state) return
    const body = { sheet: flatOf(state.settings, sheet).sheet.id, density: wanted }
    void api
      .POST('/api/projects/{project_id}/plan', { params: { path: { project_id: state.id } }, body })
      .then(({ data }) => !gone && setPlan(data ?? null))
    return () => {
      gone = true
    }
  }, [state, sheet, wanted])
  if (!state || !flat) return null
  const share = async () => {
    const every = sheetsOf(state.settings)
    const sheets = [...every]
    while (sheets.length < count) {
      const id = Math.max(...sheets.map((s) => s.id)) + 1
      sheets.push({
        ...FIRST,
        ...every[0],
        id,
        name: `Sheet ${id}`,
        tile_px: {},
        tile_names: {},
        held_tiles: [],
        free: [],
      })
    }
    const used = sheets.slice(0, count)
    if (sheets.length > every.length) await change({ settings: { sheets } })
    const { data, error } = await api.POST('/api/projects/{project_id}/suggest', {
      params: { path: { project_id: state.id } },
      body: { sheets: used.map((s) => s.id), by },
    })
    if (!data) return say(words(error))
    const kept = Object.entries(state.settings.sheet_of ?? {}).filter(
      ([k]) => !k.includes(':') && !(k in data.sheet_of),
    )
    await change({ settings: { sheet_of: { ...Object.fromEntries(kept), ...data.sheet_of } } })
    setSheet(used[0].id)
  }
  return (
    <>
      {plan && (
        <>
          <Figure name="Surface, times its weights" value={`${plain(plan.area, 3)} m²`} />
          <Figure
            name={`Coverage to expect, ${plan.tries ? `from ${plan.tries} tries` : 'as usual'}`}
            value={`${Math.round(100 * plan.coverage[0])} to ${Math.round(100 * plan.coverage[2])} %`}
          />
          <Figure
            name={`Density of this sheet`}
            value={`${plain(plan.density[0], 3)} to ${perMetre(plan.density[2], 3)}`}
          />
          <Chart plan={plan} wanted={wanted} now={flat.map_px} />
        </>
      )}
      <Setting name="Density wanted" text={needs(plan, flat.map_px)}>
        <NumberField name="Density wanted" value={wanted} unit="px/m" least={0.001} most={1e7} set={setWanted} />
      </Setting>
      <Text fontWeight="600" mb="1">
        Share the objects out
      </Text>
      <Flex gap="2" align="center" mb="1" wrap="wrap">
        <Text>over</Text>
        <NumberField name="Number of sheets" value={count} unit="sheets" least={1} most={50} whole set={setCount} />
      </Flex>
      <Flex gap="2" align="center" mb="2">
        <Text>keep together what is</Text>
        <Choice label="Keep together" value={by} options={BY} set={setBy} />
      </Flex>
      <Button size="xs" variant="outline" disabled={!!job} onClick={() => void share()}>
        Share them out evenly
      </Button>
    </>
  )
}

function needs(plan: Plan | null, now: number): string {
  const tiles = plan?.maps.find((m) => m.px === now)?.tiles
  if (!tiles) return 'How many tiles it needs is told here.'
  const [low, , high] = tiles
  return `Needs ${low === high ? low : `${low} to ${high}`} ${high === 1 ? 'tile' : 'tiles'} of ${now} px.`
}

/** Density that each map size would reach, with its uncertainty, against the one wanted. */
function Chart({ plan, wanted, now }: { plan: Plan; wanted: number; now: number }) {
  const all = plan.maps.flatMap((m) => m.density).concat(wanted)
  const [low, high] = [Math.min(...all) / 1.2, Math.max(...all) * 1.2]
  const y = (d: number) => HIGH - 14 - ((HIGH - 20) * Math.log(d / low)) / Math.log(high / low)
  const step = WIDE / plan.maps.length
  return (
    <Box my="2">
      <svg width={WIDE} height={HIGH} role="img" aria-label="Density by map size">
        <line
          x1="0"
          x2={WIDE}
          y1={y(wanted)}
          y2={y(wanted)}
          stroke="var(--chakra-colors-indigo)"
          strokeDasharray="4 2"
        />
        {plan.maps.map((m, i) => {
          const x = step * (i + 0.5)
          const colour = `var(--chakra-colors-${m.px === now ? 'ink' : 'faded'})`
          return (
            <g key={m.px}>
              <line
                x1={x}
                x2={x}
                y1={y(m.density[0])}
                y2={y(m.density[2])}
                stroke={colour}
                strokeWidth="5"
                opacity="0.35"
              />
              <circle cx={x} cy={y(m.density[1])} r={m.px === now ? 4 : 3} fill={colour}>
                <title>{`${m.px} px: ${perMetre(m.density[1], 3)}`}</title>
              </circle>
              <text x={x} y={HIGH - 2} fontSize="10" textAnchor="middle" fill={colour}>
                {m.px}
              </text>
            </g>
          )
        })}
      </svg>
      <Text fontSize="xs" color="faded">
        px/m by map size; the dashed line is the density wanted.
      </Text>
    </Box>
  )
}
