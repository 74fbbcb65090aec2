import { Text } from '@chakra-ui/react'

/** The name of what is under the pointer, in the lower corner of the table. */
export function UnderPointer({ text }: { text: string }) {
  if (!text) return null
  return (
    <Text
      position="absolute"
      bottom="1"
      left="2"
      px="1"
      bg="paper"
      fontSize="xs"
      pointerEvents="none"
      data-testid="under-pointer"
      maxW="100%"
      truncate
    >
      {text}
    </Text>
  )
}
