import { Button, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { Thread } from './Thread'

interface Props {
  text: string
  /** How far it is, in words: it changes all the time, so it is not read out. */
  figure: string
  part: number | null
  /** Nothing where it cannot be stopped. */
  stop: (() => void) | null
  /** What stopping does. */
  stops?: string
}

/** Work in the bar: in words, with a figure, a thread that grows with it, and a stop. */
export function Doing({ text, figure, part, stop, stops = 'Stop' }: Props) {
  const [told, setTold] = useState(false)
  return (
    <>
      <Text truncate>
        {text}
        <span aria-hidden>{figure}</span>
      </Text>
      {stop && (
        <Button
          size="xs"
          variant="outline"
          borderColor="ink"
          disabled={told}
          flexShrink="0"
          onClick={() => {
            setTold(true)
            stop()
          }}
        >
          {told ? 'Stopping' : stops}
        </Button>
      )}
      <Thread part={part} name="Done of it" position="absolute" left="0" bottom="0" />
    </>
  )
}
