import { Flex, Spinner, Text } from '@chakra-ui/react'
import { useEvents } from '../events'

/** Over everything while the application does not answer; gone when it is back. */
export function Away() {
  const away = useEvents((e) => e.away)
  if (!away) return null
  return (
    <Flex role="alert" bg="madder" color="paper" px="4" py="1.5" gap="3" align="center" flexShrink="0">
      <Spinner size="xs" />
      <Text>The application does not answer. What was saved is safe. This page goes on by itself when it is back.</Text>
    </Flex>
  )
}
