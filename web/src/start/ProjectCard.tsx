import { Box, Button, Flex, Input, Text } from '@chakra-ui/react'
import { useState } from 'react'
import type { ProjectRow } from '../api/client'
import { useSession } from '../people/session'
import { Sharing } from '../people/Sharing'

interface Props {
  project: ProjectRow
  open: () => void
  rename: (name: string) => void
  copy: () => void
  remove: () => void
}

/** A project on the start page; its name is changed in place. */
export function ProjectCard({ project: p, open, rename, copy, remove }: Props) {
  const [name, setName] = useState<string | null>(null)
  const [sharing, setSharing] = useState(false)
  const { team, user } = useSession()
  const mine = !team || p.owner === user
  const done = (keep: boolean) => {
    if (keep && name?.trim() && name !== p.name) rename(name)
    setName(null)
  }
  return (
    <>
      <Flex
        align="center"
        gap="2"
        bg="sheet"
        border="1px dashed"
        borderColor="thread"
        rounded="sm"
        p="3"
        mb="2"
        data-testid="project"
      >
        <Box flex="1">
          {name === null ? (
            <Button variant="plain" p="0" h="auto" color="indigo" fontSize="md" onClick={open}>
              {p.name}
            </Button>
          ) : (
            <Input
              autoFocus
              size="xs"
              aria-label="New name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              onBlur={() => done(true)}
              onKeyDown={(e) => {
                if (e.key === 'Enter') done(true)
                if (e.key === 'Escape') done(false)
              }}
            />
          )}
          <Text color="faded">
            {p.demo && 'demo, '}
            {!mine && `of ${p.owner}${p.may_change ? '' : ', to look at'}, `}
            {p.objects} objects, last changed {new Date(p.modified).toLocaleString()}
          </Text>
        </Box>
        {mine && team && (
          <Button size="xs" variant="ghost" aria-expanded={sharing} onClick={() => setSharing(!sharing)}>
            Share
          </Button>
        )}
        {p.may_change && (
          <Button size="xs" variant="ghost" onClick={() => setName(p.name)}>
            Rename
          </Button>
        )}
        <Button size="xs" variant="ghost" onClick={copy}>
          Copy
        </Button>
        {mine && (
          <Button size="xs" variant="ghost" onClick={remove}>
            Delete
          </Button>
        )}
      </Flex>
      {sharing && <Sharing project={p.id} />}
    </>
  )
}
