import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { api, words } from '../api/client'
import { FileButton } from '../frame/FileButton'
import { Choice, Main, Setting, TextField } from '../stages/parts'
import { counted } from '../words'
import type { Folder } from './batches'

const GROUPS = {
  file: 'each file',
  folder: 'all files of a folder',
  pattern: 'files that a pattern joins',
} as const

/** Which folder, which job file, what is one asset. */
export function StartBatch({ top, started }: { top: Folder; started: (batch: number) => void }) {
  const [folder, setFolder] = useState(top)
  const [job, setJob] = useState<{ name: string; text: string } | null>(null)
  const [group, setGroup] = useState<keyof typeof GROUPS>('file')
  const [pattern, setPattern] = useState('')
  const [error, setError] = useState('')

  async function look(path: string) {
    const { data, error } = await api.GET('/api/library', { params: { query: { folder: path } } })
    setError(error ? words(error) : '')
    if (data) setFolder(data)
  }
  async function start() {
    if (!job) return
    const { data, error } = await api.POST('/api/batches', {
      body: {
        folder: folder.path,
        group: group === 'pattern' ? pattern : group,
        job_name: job.name,
        job_text: job.text,
      },
    })
    if (data) started(data.id)
    else setError(words(error))
  }
  const count = `${folder.more ? 'over ' : ''}${counted(folder.meshes, 'mesh file')}`
  const missing = !job
    ? 'Choose a job file'
    : !folder.meshes
      ? 'No mesh lies here'
      : group === 'pattern' && !pattern
        ? 'Write a pattern'
        : ''
  return (
    <Box bg="sheet" border="1px solid" borderColor="thread" rounded="sm" p="4" mb="3">
      <Folders folder={folder} count={count} look={(path) => void look(path)} />
      <Setting
        name="Job file"
        text="What is done with each asset. A project that is set up as you want it saves one in Gather; what it says of input files is replaced."
      >
        <FileButton
          size="xs"
          testId="batch-job"
          accept=".toml,.json"
          take={([file]) => void file.text().then((text) => setJob({ name: file.name, text }))}
        >
          {job ? job.name : 'Choose'}
        </FileButton>
      </Setting>
      <Setting
        name="One asset is"
        text="The files of an asset share their sheets, and it is done, or fails, on its own."
      >
        <Choice label="One asset is" value={group} options={GROUPS} set={setGroup} />
      </Setting>
      {group === 'pattern' && (
        <Setting
          name="Pattern"
          text="A regular expression on paths; all with the same first group are one: (.+)_part\d+"
        >
          <TextField label="Pattern" value={pattern} set={setPattern} placeholder="(.+)_part\d+" wide={180} />
        </Setting>
      )}
      {error && (
        <Text role="alert" color="madder" mb="2">
          {error}
        </Text>
      )}
      <Main disabled={missing !== ''} onClick={() => void start()}>
        {missing || `Do it for ${count}`}
      </Main>
    </Box>
  )
}

/** The way to a folder of the library, and the folders in it. */
function Folders({ folder, count, look }: { folder: Folder; count: string; look: (path: string) => void }) {
  const way = folder.path ? folder.path.split('/') : []
  return (
    <Box mb="3" role="group" aria-label="Folder">
      <Flex align="center" gap="1" wrap="wrap">
        <Text fontWeight="600" mr="1">
          Folder
        </Text>
        {['Library', ...way].map((name, n) => (
          <Flex key={n} align="center" gap="1">
            {n > 0 && <Text color="faded">/</Text>}
            <Button
              size="2xs"
              variant="ghost"
              disabled={n === way.length}
              onClick={() => look(way.slice(0, n).join('/'))}
            >
              {name}
            </Button>
          </Flex>
        ))}
        <Text ml="auto" color={folder.meshes ? 'ink' : 'madder'}>
          {count}
        </Text>
      </Flex>
      {folder.folders.length > 0 && (
        <Flex wrap="wrap" gap="1" mt="1" maxH="120px" overflowY="auto">
          {folder.folders.map((name) => (
            <Button key={name} size="2xs" variant="outline" onClick={() => look([...way, name].join('/'))}>
              {name}
            </Button>
          ))}
        </Flex>
      )}
    </Box>
  )
}
