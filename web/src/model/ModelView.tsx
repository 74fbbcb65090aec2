import { Box, Flex, Text } from '@chakra-ui/react'
import { useEffect, useRef, useState } from 'react'
import { bandOf, target } from '../scene/states'
import { Choice, numbered } from '../stages/parts'
import { useQuilt } from '../store'
import { Model, type Look } from './model'

const LOOKS: Record<Look, string> = { checker: 'checker', density: 'density', cloth: 'cloth of each object' }
const SQUARES = [8, 16, 32, 64, 128, 256]

/** The objects in space: with the checker, their density, or their cloth colours. */
export function ModelView() {
  const host = useRef<HTMLDivElement>(null)
  const model = useRef<Model>(null)
  const { pieces, drawn, fitted, shown, state } = useQuilt()
  const [look, setLook] = useState<Look>('checker')
  const [square, setSquare] = useState(64)
  useEffect(() => {
    const m = new Model(host.current!, (hit, add) => {
      const q = useQuilt.getState()
      const island = hit && q.picks === 'islands' && hit.island !== null
      q.select(hit ? [island ? `${hit.file}:${hit.island}` : `${hit.file}/${hit.object}`] : [], add)
    })
    model.current = m
    return () => m.dispose()
  }, [])
  const map = state?.settings.map_px ?? 2048
  const band = state ? bandOf(state) : 0.14
  useEffect(() => model.current?.setPieces(pieces), [pieces])
  useEffect(() => model.current?.draw(), [drawn])
  useEffect(() => model.current?.fit(), [fitted])
  useEffect(() => {
    if (shown) model.current?.showSelected()
  }, [shown])
  useEffect(() => model.current?.setLook(look, map / square, band, true), [look, map, square, band, pieces])
  const wanted = state && target(state)
  return (
    <Flex position="relative" direction="column" h="100%" bg="paper">
      <Flex gap="1" px="2" py="1" align="center" justify="flex-end" flexShrink="0">
        <Choice label="What the model shows" value={look} options={LOOKS} set={setLook} />
        {look === 'checker' && (
          <Choice
            label="Checker square"
            value={String(square)}
            options={numbered(SQUARES, (s) => `${s} px${wanted ? `, ${((100 * s) / wanted).toPrecision(3)} cm` : ''}`)}
            set={(s) => setSquare(Number(s))}
          />
        )}
      </Flex>
      <Box ref={host} position="relative" flex="1" minH="0" overflow="hidden" data-testid="model" />
      {look === 'density' && <Scale band={state?.settings.band ?? 10} wanted={wanted ?? null} />}
    </Flex>
  )
}

/** What the colours of the density picture mean. */
function Scale({ band, wanted }: { band: number; wanted: number | null }) {
  return (
    <Flex position="absolute" bottom="1" left="3" gap="2" align="center" fontSize="xs" pointerEvents="none">
      <Text color="starved">a quarter</Text>
      <Box w="160px" h="8px" bgGradient="to-r" gradientFrom="#126b73" gradientVia="#e6d6b8" gradientTo="#6b2966" />
      <Text color="lavish">four times</Text>
      {wanted && (
        <Text color="faded">
          plain cloth: {wanted.toPrecision(4)} px/m ± {band} %
        </Text>
      )}
    </Flex>
  )
}
