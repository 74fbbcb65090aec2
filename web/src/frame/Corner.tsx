import { Flex } from '@chakra-ui/react'
import { Me } from '../people/Me'
import { NightSwitch } from './NightSwitch'

/** The upper right corner of a page that is no project: who is here, and which theme. */
export function Corner() {
  return (
    <Flex ml="auto" align="center" gap="3">
      <Me />
      <NightSwitch />
    </Flex>
  )
}
