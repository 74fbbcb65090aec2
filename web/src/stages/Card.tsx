import { Box, Flex, Text } from '@chakra-ui/react'

const WEIGHTS = ['meant so', 'worth knowing', 'shows in the result', 'breaks a bake']

/** Something that is wrong, how heavy it weighs (0 to 3), and what can be done about it. */
export function Card({
  title,
  heavy,
  text,
  children,
}: {
  title: string
  heavy: number
  text: string
  children: React.ReactNode
}) {
  return (
    <Box
      borderLeft="3px solid"
      borderColor={heavy === 3 ? 'madder' : heavy === 2 ? 'weld' : 'thread'}
      pl="2"
      mb="3"
      title={WEIGHTS[heavy]}
    >
      <Text fontWeight="600">{title}</Text>
      <Text color="faded" fontSize="xs">
        {text}
      </Text>
      <Flex gap="1" mt="1" align="center" wrap="wrap">
        {children}
      </Flex>
    </Box>
  )
}
