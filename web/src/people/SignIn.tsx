import { Box, Button, Flex, Heading, Input, Text } from '@chakra-ui/react'
import { useState, type FormEvent } from 'react'
import { useSession } from './session'

/** Name and password, on an installation of a team. */
export function SignIn() {
  const signIn = useSession((s) => s.signIn)
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [told, setTold] = useState('')
  const [waiting, setWaiting] = useState(false)
  const send = async (e: FormEvent) => {
    e.preventDefault()
    setWaiting(true)
    setTold(await signIn(name.trim(), password))
    setWaiting(false)
  }
  return (
    <Flex as="main" h="100%" align="center" justify="center" p="6">
      <Box
        as="form"
        onSubmit={(e) => void send(e as FormEvent)}
        w="320px"
        bg="sheet"
        p="6"
        border="1px dashed"
        borderColor="thread"
      >
        <Flex align="center" gap="3" mb="5">
          <img src="/mark.svg" width="36" alt="" />
          <Heading as="h1" fontSize="lg">
            Untold Quilt
          </Heading>
        </Flex>
        <label>
          <Text mb="1">Name</Text>
          <Input autoFocus autoComplete="username" size="sm" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <Box as="label" display="block" mt="3">
          <Text mb="1">Password</Text>
          <Input
            type="password"
            autoComplete="current-password"
            size="sm"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Box>
        <Text role="alert" color="madder" minH="6" mt="2">
          {told}
        </Text>
        <Button type="submit" size="sm" bg="indigo" color="sheet" disabled={waiting || !name.trim() || !password}>
          Sign in
        </Button>
        <Text color="faded" fontSize="xs" mt="4">
          Accounts are made on the machine that it runs on: ./quilt user add NAME
        </Text>
      </Box>
    </Flex>
  )
}
