import { Box, Button, Flex, Grid, Heading, Input, Text } from '@chakra-ui/react'
import { useCallback, useEffect, useState } from 'react'
import { api, openJob, openSaved, words, type ProjectRow } from '../api/client'
import { Batches } from '../batches/Batches'
import { Corner } from '../frame/Corner'
import { FileButton } from '../frame/FileButton'
import { AllWork } from '../frame/Others'
import { fromList } from '../stages/drop'
import { ProjectCard } from './ProjectCard'

const JOB = [
  ['Gather', 'bring in meshes, one or many, with their textures'],
  ['Inspect', 'see what is wrong with their UVs and how uneven their density is'],
  ['Mend', 'make bad UVs anew, cut and sew seams, lay islands flat, flip them back'],
  ['Even', 'one density for all, with weights where it should differ'],
  ['Arrange', 'islands packed with exact padding, watched while it gets better'],
  ['Prove', 'overlaps, gaps and margins measured, not promised'],
  ['Deliver', 'the same files with new UVs, a template to paint over, a report'],
]

/** The projects, and what the application is for. */
export function StartPage({ open, openBatch }: { open: (id: number) => void; openBatch: (id: number) => void }) {
  const [projects, setProjects] = useState<ProjectRow[]>([])
  const [name, setName] = useState('')
  const [error, setError] = useState('')
  const [deleted, setDeleted] = useState<ProjectRow | null>(null)
  const [aside, setAside] = useState(false)
  const load = useCallback(() => api.GET('/api/projects').then(({ data }) => setProjects(data ?? [])), [])
  useEffect(() => {
    document.title = 'Untold Quilt'
    void load()
  }, [load])

  async function create() {
    const { data, error } = await api.POST('/api/projects', { body: { name: name || 'New project' } })
    if (data) open(data.id)
    else setError(words(error))
  }
  const act = async (answer: Promise<{ error?: unknown }>) => {
    const { error } = await answer
    setError(error ? words(error) : '')
    await load()
  }
  const present = projects.filter((p) => !p.deleted)
  const gone = projects.filter((p) => p.deleted)
  const at = (p: ProjectRow) => ({ params: { path: { project_id: p.id } } })

  return (
    <Box as="main" h="100%" overflowY="auto" p="8">
      <Box maxW="1000px" mx="auto">
        <Flex align="center" gap="3" mb="6">
          <img src="/mark.svg" width="36" alt="" />
          <Heading as="h1" fontSize="lg">
            Untold Quilt
          </Heading>
          <Corner />
        </Flex>
        <Grid templateColumns={{ base: '1fr', md: '3fr 2fr' }} gap="10">
          <Box>
            <Flex gap="2" mb="4">
              <Input
                aria-label="Name of the new project"
                placeholder="Name of a new project"
                value={name}
                onChange={(e) => setName(e.target.value)}
                onKeyDown={(e) => e.key === 'Enter' && void create()}
                bg="sheet"
                borderColor="thread"
                size="sm"
              />
              <Button size="sm" bg="indigo" color="sheet" onClick={() => void create()}>
                Start a project
              </Button>
              <FileButton
                size="sm"
                testId="open-saved"
                accept=".zip"
                title="A project that was saved as one file, here or elsewhere"
                take={(files) => openSaved(files[0]).then(open, (e: Error) => setError(e.message))}
              >
                Open a saved one
              </FileButton>
              <FileButton
                size="sm"
                testId="open-job"
                multiple
                title="The job file together with the meshes that it takes in, and their pictures"
                take={(files) => openJob(fromList(files)).then(open, (e: Error) => setError(e.message))}
              >
                Do a job file
              </FileButton>
            </Flex>
            {error && (
              <Text role="alert" color="madder" mb="3">
                {error}
              </Text>
            )}
            <AllWork />
            {deleted && (
              <Flex role="status" align="center" gap="2" mb="3">
                “{deleted.name}” is deleted.
                <Button
                  size="xs"
                  variant="outline"
                  onClick={() => {
                    void act(api.POST('/api/projects/{project_id}/restore', at(deleted)))
                    setDeleted(null)
                  }}
                >
                  Bring it back
                </Button>
              </Flex>
            )}
            {present.map((p) => (
              <ProjectCard
                key={p.id}
                project={p}
                open={() => open(p.id)}
                rename={(other) =>
                  void act(api.PATCH('/api/projects/{project_id}', { ...at(p), body: { name: other } }))
                }
                copy={() => void act(api.POST('/api/projects/{project_id}/copy', at(p)))}
                remove={() => {
                  void act(api.DELETE('/api/projects/{project_id}', at(p)))
                  setDeleted(p)
                }}
              />
            ))}
            {gone.length > 0 && (
              <Button size="xs" variant="ghost" aria-expanded={aside} onClick={() => setAside(!aside)}>
                {gone.length} deleted {gone.length === 1 ? 'project' : 'projects'}
              </Button>
            )}
            {aside &&
              gone.map((p) => (
                <Flex key={p.id} align="center" gap="2" px="3" data-testid="deleted">
                  <Text flex="1" color="faded">
                    {p.name}
                  </Text>
                  <Button
                    size="xs"
                    variant="ghost"
                    onClick={() => void act(api.POST('/api/projects/{project_id}/restore', at(p)))}
                  >
                    Bring it back
                  </Button>
                  <Button
                    size="xs"
                    variant="ghost"
                    color="madder"
                    title="Its files and history go too, and cannot be brought back"
                    onClick={() => void act(api.POST('/api/projects/{project_id}/purge', at(p)))}
                  >
                    Delete for good
                  </Button>
                </Flex>
              ))}
            <Batches open={openBatch} />
          </Box>
          <Box>
            <Text fontSize="md" mb="3">
              Meshes with good, bad or uneven UVs go in. The same meshes come out with even texel density, on one packed
              and proven sheet.
            </Text>
            {JOB.map(([stage, text], n) => (
              <Flex key={stage} gap="3" mb="2">
                <Text color="indigo" fontWeight="600" minW="4">
                  {n + 1}
                </Text>
                <Text>
                  <b>{stage}:</b> {text}
                </Text>
              </Flex>
            ))}
            <Text mt="4" color="faded">
              New here? Open “Tide mill, six parts”, go to “Arrange”, and press “Pack this sheet”.
            </Text>
          </Box>
        </Grid>
      </Box>
    </Box>
  )
}
