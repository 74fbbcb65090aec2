import { Box, Flex, Text } from '@chakra-ui/react'
import { useEffect, useState } from 'react'
import { api, words } from '../api/client'
import type { components } from '../api/schema'
import { Choice } from '../stages/parts'

type People = components['schemas']['PeopleOut']
const HOW = { none: 'not shared', look: 'may look', change: 'may change' }

/** Who else may look at a project or change it; its owner says. */
export function Sharing({ project }: { project: number }) {
  const [people, setPeople] = useState<People | null>(null)
  const [told, setTold] = useState('')
  const at = { params: { path: { project_id: project } } }
  useEffect(() => {
    api.GET('/api/projects/{project_id}/people', { params: { path: { project_id: project } } }).then(
      ({ data }) => setPeople(data ?? null),
      () => setPeople(null),
    )
  }, [project])
  if (!people) return null
  const share = async (name: string, how: keyof typeof HOW) => {
    const { data, error } = await api.POST('/api/projects/{project_id}/people', { ...at, body: { name, how } })
    if (data) setPeople(data)
    setTold(error ? words(error) : '')
  }
  const rows = [
    ...people.shared.map((p) => ({ name: p.name, how: p.change ? ('change' as const) : ('look' as const) })),
    ...people.others.map((name) => ({ name, how: 'none' as const })),
  ].sort((a, b) => a.name.localeCompare(b.name))
  return (
    <Box role="region" aria-label="Who else works on it" px="3" pb="2" mb="2" maxH="240px" overflowY="auto">
      <Text fontWeight="600" fontSize="xs" mb="1">
        Shared with
      </Text>
      {!rows.length && <Text color="faded">Nobody else has an account here.</Text>}
      {rows.map((p) => (
        <Flex key={p.name} align="center" justify="space-between" gap="2" mb="1">
          <Text truncate>{p.name}</Text>
          {people.mine ? (
            <Choice
              label={`What ${p.name} may do`}
              value={p.how}
              options={HOW}
              set={(how) => void share(p.name, how)}
            />
          ) : (
            <Text color="faded">{HOW[p.how]}</Text>
          )}
        </Flex>
      ))}
      <Text role="alert" color="madder">
        {told}
      </Text>
    </Box>
  )
}
