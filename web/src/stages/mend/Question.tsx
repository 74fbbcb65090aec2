import { Box, Button, Text } from '@chakra-ui/react'
import type { ReactNode } from 'react'
import { useParts } from '../../store'

/** One of the questions of mending: first what was found, then what would mend it. */
export function Question({ name, found, children }: { name: string; found: string; children: ReactNode }) {
  return (
    <Box as="section" aria-label={name} mt="3" pt="2" borderTop="1px dashed" borderColor="thread">
      <Text fontWeight="600">{name}</Text>
      <Text color="faded" fontSize="xs" mb="2">
        {found}
      </Text>
      {children}
    </Box>
  )
}

interface ActProps {
  name: string
  /** What it does to the result. */
  text: string
  disabled?: boolean
  onClick: () => void
  children?: ReactNode
}

/** Something that mends: a button with one line that says what it does. */
export function Act({ name, text, disabled, onClick, children }: ActProps) {
  const { job } = useParts('job')
  return (
    <Box mb="3">
      <Text color="faded" fontSize="xs" mb="1">
        {text}
      </Text>
      {children}
      <Button size="xs" variant="outline" disabled={!!job || disabled} onClick={onClick}>
        {name}
      </Button>
    </Box>
  )
}
