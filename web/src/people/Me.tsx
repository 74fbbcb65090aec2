import { Button, Text } from '@chakra-ui/react'
import { useSession } from './session'

/** Who is signed in, and the way out. */
export function Me() {
  const { team, user, signOut } = useSession()
  if (!team || !user) return null
  return (
    <>
      <Text color="faded" truncate maxW="120px" title={`Signed in as ${user}`}>
        {user}
      </Text>
      <Button size="xs" variant="ghost" onClick={() => void signOut()}>
        Sign out
      </Button>
    </>
  )
}
