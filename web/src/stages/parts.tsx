import { Box, Button, Flex, Heading, Input, Text } from '@chakra-ui/react'
import { useEffect, useState, type ReactNode } from 'react'

export function Title({ children, text }: { children: ReactNode; text: string }) {
  return (
    <Box mb="4">
      <Heading fontSize="lg">{children}</Heading>
      <Text color="faded">{text}</Text>
    </Box>
  )
}

/** A control with one line that says what it does to the result. */
export function Setting({ name, text, children }: { name: string; text: string; children: ReactNode }) {
  return (
    <Box as="label" display="block" mb="3">
      <Flex justify="space-between" align="center" gap="2">
        <Text fontWeight="600">{name}</Text>
        {children}
      </Flex>
      <Text color="faded" fontSize="xs">
        {text}
      </Text>
    </Box>
  )
}

interface NumberProps {
  name: string
  value: number
  unit: string
  least: number
  most: number
  disabled?: boolean
  set: (value: number) => void
}

/** A number with its unit; it counts when the field is left or Enter is pressed. */
export function NumberField({ name, value, unit, least, most, disabled, set }: NumberProps) {
  const [text, setText] = useState(String(value))
  useEffect(() => setText(String(value)), [value])
  const done = () => {
    const n = Number(text)
    if (text.trim() && Number.isFinite(n) && n >= least && n <= most) {
      if (n !== value) set(n)
    } else setText(String(value))
  }
  return (
    <Flex align="center" gap="1">
      <Input
        size="xs"
        w="20"
        textAlign="right"
        bg="sheet"
        borderColor="thread"
        aria-label={name}
        disabled={disabled}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
      />
      <Text w="8">{unit}</Text>
    </Flex>
  )
}

export function Main({
  children,
  onClick,
  disabled,
}: {
  children: ReactNode
  onClick: () => void
  disabled?: boolean
}) {
  return (
    <Button w="100%" bg="indigo" color="sheet" size="sm" onClick={onClick} disabled={disabled}>
      {children}
    </Button>
  )
}

/** A figure with its unit, and a word on whether it is good. */
export function Figure({ name, value, good }: { name: string; value: string; good?: boolean }) {
  return (
    <Flex justify="space-between" borderBottom="1px dashed" borderColor="thread" py="1" gap="2">
      <Text>{name}</Text>
      <Text fontWeight="600" color={good === undefined ? 'ink' : good ? 'moss' : 'madder'} textAlign="right">
        {value}
      </Text>
    </Flex>
  )
}
