import { Box, Button, Flex, Heading, Input, Text } from '@chakra-ui/react'
import { useEffect, useState, type ReactNode } from 'react'
import { useParts } from '../store'
import { themed } from '../colours'
import { counted } from '../words'

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
        {name && <Text fontWeight="600">{name}</Text>}
        {children}
      </Flex>
      <Text color="faded" fontSize="xs">
        {text}
      </Text>
    </Box>
  )
}

interface ChoiceProps<T extends string> {
  /** Its name for those who do not see it. */
  label: string
  value: T
  /** Values with their words; as pairs where the order matters and values look like numbers. */
  options: Record<T, string> | readonly (readonly [T, string])[]
  disabled?: boolean
  set: (value: T) => void
}

/** One of several named values. */
export function Choice<T extends string>({ label, value, options, disabled, set }: ChoiceProps<T>) {
  const pairs = Array.isArray(options) ? options : Object.entries(options)
  return (
    <select aria-label={label} value={value} disabled={disabled} onChange={(e) => set(e.target.value as T)}>
      {(pairs as [T, string][]).map(([k, t]) => (
        <option key={k} value={k}>
          {t}
        </option>
      ))}
    </select>
  )
}

/** The UV channels that files can hold here. */
export const CHANNELS = [0, 1, 2, 3, 4, 5, 6, 7]

/** Whole numbers as the options of a choice. */
export const numbered = (values: readonly number[], words: (n: number) => string): Record<string, string> =>
  Object.fromEntries(values.map((n) => [String(n), words(n)]))

interface NumberProps {
  name: string
  value: number
  unit: string
  least: number
  most: number
  disabled?: boolean
  /** Whether only whole numbers count. */
  whole?: boolean
  set: (value: number) => void
  /** Told of every number that could count while it is typed. */
  preview?: (value: number) => void
}

/** A number with its unit; it counts when the field is left or Enter is pressed. */
export function NumberField({ name, value, unit, least, most, disabled, whole, set, preview }: NumberProps) {
  const [text, setText] = useState(String(value))
  useEffect(() => setText(String(value)), [value])
  const good = (t: string) =>
    t.trim() !== '' && Number(t) >= least && Number(t) <= most && (!whole || Number.isInteger(Number(t)))
  const done = () => {
    const n = Number(text)
    if (good(text)) {
      if (n !== value) set(n)
    } else setText(String(value))
  }
  return (
    <Flex align="center" gap="1">
      <Input
        size="xs"
        w={unit ? '20' : '16'}
        textAlign="right"
        bg="sheet"
        borderColor="thread"
        aria-label={name}
        disabled={disabled}
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          if (good(e.target.value)) preview?.(Number(e.target.value))
        }}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
      />
      {unit && <Text minW="8">{unit}</Text>}
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

interface OptionalProps {
  name: string
  value: number | null
  unit: string
  set: (value: number | null) => void
}

/** A number above 0 that may be left empty. */
export function OptionalNumber({ name, value, unit, set }: OptionalProps) {
  const shown = value === null ? '' : String(value)
  const [text, setText] = useState(shown)
  useEffect(() => setText(shown), [shown])
  const done = () => {
    const n = Number(text)
    if (!text.trim()) {
      if (value !== null) set(null)
    } else if (Number.isFinite(n) && n > 0) {
      if (n !== value) set(n)
    } else setText(shown)
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
        placeholder="no limit"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={done}
        onKeyDown={(e) => e.key === 'Enter' && done()}
      />
      <Text w="8">{unit}</Text>
    </Flex>
  )
}

/** Says what a repair will work on. */
export function Whom() {
  const { state, selection, select } = useParts('state', 'selection', 'select')
  const objects = [...selection].filter((k) => k.includes('/')).length
  const islands = selection.size - objects
  const words = [
    objects && `${objects} ${objects === 1 ? 'object' : 'objects'}`,
    islands && `${islands} ${islands === 1 ? 'island' : 'islands'}`,
  ].filter(Boolean)
  return (
    <Flex align="center" gap="2" mb="3" px="2" py="1" bg="fold" rounded="sm">
      <Text flex="1">
        {words.length
          ? `For the selection: ${words.join(' and ')}`
          : `For all: ${counted(state?.figures?.islands ?? 0, 'island')}`}
      </Text>
      {words.length > 0 && (
        <Button size="2xs" variant="ghost" onClick={() => select([])}>
          Take all
        </Button>
      )}
    </Flex>
  )
}

interface Words {
  label: string
  value: string
  set: (value: string) => void
  placeholder?: string
  wide?: number
}

/** A field for a few words; it counts when it is left. */
export function TextField({ label, value, set, placeholder, wide = 130 }: Words) {
  return (
    <input
      aria-label={label}
      placeholder={placeholder}
      style={{ width: wide, background: 'transparent', border: `1px solid ${themed('thread')}`, padding: '2px 6px' }}
      defaultValue={value}
      onBlur={(e) => set(e.target.value.trim())}
    />
  )
}

/** A text that is taken over when it is left. */
export function NameField({
  value,
  disabled,
  label = 'Name',
  set,
}: {
  value: string
  disabled?: boolean
  label?: string
  set: (v: string) => void
}) {
  const [text, setText] = useState(value)
  useEffect(() => setText(value), [value])
  const done = () => (text.trim() && text.trim() !== value ? set(text.trim()) : setText(value))
  return (
    <Input
      size="xs"
      w="36"
      bg="sheet"
      borderColor="thread"
      aria-label={label}
      value={text}
      disabled={disabled}
      onChange={(e) => setText(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => e.key === 'Enter' && done()}
    />
  )
}
