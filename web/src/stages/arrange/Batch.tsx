import { Button, Flex, Input, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { flatOf } from '../../scene/sheets'
import { useParts } from '../../store'
import { Setting } from '../parts'
import { ROTATIONS, type Rotation } from '../rotations'

/** Several recipes tried one after the other: every padding with every turning. */
export function Batch() {
  const { state, sheet, job, start } = useParts('state', 'sheet', 'job', 'start')
  const flat = state && flatOf(state.settings, sheet)
  const [paddings, setPaddings] = useState('')
  const [rotations, setRotations] = useState<Rotation[]>([])
  if (!flat) return null
  const px = paddings
    .split(/[,;\s]+/)
    .filter(Boolean)
    .map(Number)
  const good = px.every((p) => Number.isFinite(p) && p >= 0 && p < flat.map_px / 2)
  const ways = rotations.length ? rotations : [flat.rotate as Rotation]
  const variants = (px.length ? px : [flat.padding_px]).flatMap((padding_px) =>
    ways.map((rotate) => ({ padding_px, rotate })),
  )
  return (
    <>
      <Setting name="Paddings" text="In px, with commas; the margin stays as it is.">
        <Input
          size="xs"
          w="28"
          bg="sheet"
          borderColor={good ? 'thread' : 'madder'}
          aria-label="Paddings to try"
          placeholder={`${flat.padding_px}, ${2 * flat.padding_px}`}
          value={paddings}
          onChange={(e) => setPaddings(e.target.value)}
        />
      </Setting>
      <Flex gap="2" wrap="wrap" mb="2">
        {ROTATIONS.map(([turn, words]) => (
          <Flex as="label" key={turn} gap="1" align="center">
            <input
              type="checkbox"
              checked={rotations.includes(turn)}
              onChange={(e) =>
                setRotations(e.target.checked ? [...rotations, turn] : rotations.filter((t) => t !== turn))
              }
            />
            <Text>{words}</Text>
          </Flex>
        ))}
      </Flex>
      <Button
        size="xs"
        variant="outline"
        disabled={!!job || !good || variants.length < 2 || variants.length > 24}
        onClick={() => void start('pack', { sheets: [flat.sheet.id], variants })}
      >
        Try {variants.length} recipes, {variants.length * flat.seconds} s in all
      </Button>
      <Text color="faded" fontSize="xs" mt="1">
        Each is a try; the sharpest layout is kept.
      </Text>
    </>
  )
}
