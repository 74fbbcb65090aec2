import { Box, Flex, Text } from '@chakra-ui/react'
import { useState, type ReactNode } from 'react'

interface Props {
  name: string
  /** Whether it is open until somebody closes it. */
  usual?: boolean
  /** What is set in it, readable while it is closed. */
  value?: string
  children: ReactNode
}

/** A part of a worksheet that opens and closes, and stays as it was left. */
export function Section({ name, usual = false, value, children }: Props) {
  const key = `section ${name}`
  const [left, setLeft] = useState(() => localStorage.getItem(key))
  const open = left === null ? usual : left === 'true'
  return (
    <Box mt="2" pt="2" borderTop="1px dashed" borderColor="thread">
      <Flex
        as="button"
        w="100%"
        gap="2"
        textAlign="left"
        aria-expanded={open}
        onClick={() => {
          localStorage.setItem(key, String(!open))
          setLeft(String(!open))
        }}
      >
        <Text as="span" fontWeight="600" flexShrink="0">
          {open ? '▾' : '▸'} {name}
        </Text>
        {!open && value && (
          <Text as="span" flex="1" color="faded" fontSize="xs" textAlign="right" truncate title={value}>
            {value}
          </Text>
        )}
      </Flex>
      {open && <Box pt="2">{children}</Box>}
    </Box>
  )
}
