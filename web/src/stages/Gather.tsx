import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useRef, useState } from 'react'
import { api, words } from '../api/client'
import { formatOf, titles, useFormats } from '../api/formats'
import { give } from '../give'
import { useQuilt, useParts } from '../store'
import { fromList } from './drop'
import { Tick } from './deliver/Extras'
import { Channels } from './gather/Channels'
import { FileRow } from './gather/FileRow'
import { NewerVersion } from './gather/NewerVersion'
import { NotTaken } from './gather/NotTaken'
import { Sizes } from './gather/Sizes'
import { unitNames } from '../scene/units'
import { Choice, numbered, NumberField, Setting, Title } from './parts'

/** How much of the project's history is kept. */
function History() {
  const { state, job, say, reload, change } = useParts('state', 'job', 'say', 'reload', 'change')
  const limit = state?.settings.history ?? 0
  const [asked, setAsked] = useState(50)
  const keep = limit || asked
  if (!state?.undo && !limit) return null
  const setKeep = (history: number) => (limit ? void change({ settings: { history } }) : setAsked(history))
  const thin = async () => {
    if (!state) return
    const params = { path: { project_id: state.id } }
    const { data, error } = await api.POST('/api/projects/{project_id}/thin', { params, body: { keep } })
    const steps = `${data?.steps} ${data?.steps === 1 ? 'step' : 'steps'}`
    if (!data) return say(words(error))
    await reload()
    useQuilt.setState({ note: `${steps} forgotten, ${(data.freed / 2 ** 20).toFixed(1)} MB are free again.` })
  }
  return (
    <Setting
      name="Steps kept"
      text={`So many steps can be undone. Older ones are forgotten ${limit ? 'by themselves' : 'when you say so'}; kept tries stay.`}
    >
      <Flex direction="column" gap="1" align="flex-end">
        <NumberField name="Steps kept" value={keep} unit="" least={0} most={100000} set={setKeep} />
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => void thin()}>
          Forget older ones
        </Button>
        <Tick on={!!limit} set={(on) => void change({ settings: { history: on ? Math.max(1, keep) : 0 } })}>
          <Text fontSize="xs">Always forget them</Text>
        </Tick>
      </Flex>
    </Setting>
  )
}

/** The whole project as one file, for another machine or to keep. */
function OneFile() {
  const { state, job, start } = useParts('state', 'job', 'start')
  if (!state?.files.length) return null
  return (
    <Box as="section" aria-label="The project as one file" mb="3">
      <Text fontWeight="600">The project as one file</Text>
      <Text color="faded" fontSize="xs" mb="1">
        With its originals, settings and layouts; it opens wherever Untold Quilt runs, from the page of all projects.
      </Text>
      <Flex gap="1" wrap="wrap">
        <Button size="xs" variant="outline" disabled={!!job} onClick={() => void start('save', { history: true })}>
          Save it with its history
        </Button>
        <Button size="xs" variant="ghost" disabled={!!job} onClick={() => void start('save', { history: false })}>
          As it is now
        </Button>
      </Flex>
      <JobFile project={state.id} />
    </Box>
  )
}

/** The way from the files to this layout as text, to go it again. */
function JobFile({ project }: { project: number }) {
  const { say } = useParts('say')
  const [notes, setNotes] = useState<string[] | null>(null)
  const save = async () => {
    const { data, error } = await api.GET('/api/projects/{project_id}/job-file', {
      params: { path: { project_id: project } },
    })
    if (!data) return say(words(error))
    give(data.name, data.text, 'application/toml')
    setNotes(data.notes)
  }
  return (
    <Box as="section" aria-label="The project as a job file" mt="3">
      <Text fontWeight="600">The way to it as a job file</Text>
      <Text color="faded" fontSize="xs" mb="1">
        All that was decided here, as text that people read: for next week’s version of the files, or without a browser
        by <code>quilt run</code>. The meshes stay beside it.
      </Text>
      <Button size="xs" variant="outline" onClick={() => void save()}>
        Save as a job file
      </Button>
      {notes && (
        <Box role="status" mt="1" fontSize="xs">
          {notes.length ? 'What it does not hold, or does otherwise:' : 'All of the project is in the job file.'}
          {notes.map((n) => (
            <Text key={n}>{n}</Text>
          ))}
        </Box>
      )}
    </Box>
  )
}

export function Gather() {
  const { state, job, upload, unit, setUnit, selection, start, newer } = useParts(
    'state',
    'job',
    'upload',
    'unit',
    'setUnit',
    'selection',
    'start',
    'newer',
  )
  const files = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const formats = useFormats()
  const unitless = titles(formats, (f) => !f.says_unit)
  const [chosen, setChosen] = useState(false)
  // Files of such a format that were taken in another unit: whoever chooses one may mean them, too.
  const other = (state?.files ?? []).filter((f) => formatOf(formats, f.name)?.says_unit === false && f.unit_m !== unit)
  const take = (list: FileList | null) => list?.length && void upload(fromList(list))
  const left = new Set(state?.objects.filter((o) => o.left_out).map((o) => o.key))
  const leave = (out: boolean) => {
    for (const k of selection)
      if (out) left.add(k)
      else left.delete(k)
    void start('objects', { left_out: [...left] })
  }
  // What is read may be a channel that nothing has yet.
  const channels = [...new Set([...(state?.channels ?? []), state?.settings.channel_in ?? 0])].sort()
  return (
    <>
      <Title text="Bring in meshes with their textures. More can join at any time.">Gather</Title>
      <Flex
        direction="column"
        align="center"
        gap="2"
        p="5"
        mb="4"
        border="2px dashed"
        borderColor="thread"
        textAlign="center"
      >
        <Text>Drop {titles(formats, undefined, 'or')} files, folders or a zip anywhere on this page.</Text>
        <Button size="sm" bg="indigo" color="sheet" disabled={!!job} onClick={() => files.current?.click()}>
          Choose files
        </Button>
        <Button size="xs" variant="ghost" disabled={!!job} onClick={() => folder.current?.click()}>
          Choose a folder
        </Button>
        <input ref={files} type="file" multiple hidden data-testid="files" onChange={(e) => take(e.target.files)} />
        <input
          ref={folder}
          type="file"
          hidden
          {...({ webkitdirectory: '' } as object)}
          onChange={(e) => take(e.target.files)}
        />
      </Flex>
      <NotTaken />
      <Setting
        name={`Unit of ${unitless} files`}
        text={`They do not say. Density is per metre; ${titles(formats, (f) => f.says_unit)} name their unit.`}
      >
        <Choice
          label={`Unit of ${unitless} files`}
          value={String(unit)}
          options={unitNames(false)}
          set={(u) => {
            setUnit(Number(u))
            setChosen(true)
          }}
        />
      </Setting>
      {chosen && other.length > 0 && (
        <Button
          size="2xs"
          variant="outline"
          mb="2"
          disabled={!!job}
          onClick={() => void start('units', { units: Object.fromEntries(other.map((f) => [f.id, unit])) })}
        >
          Also for {other.length === 1 ? other[0].name : `the ${other.length} that are here`}
        </Button>
      )}
      {channels.length > 1 && (
        <Setting
          name="UV channel to work on"
          text="Each channel has its own layout, sheets and rules: they are kept while another one is worked on, and all leave together."
        >
          <Choice
            label="UV channel to work on"
            value={String(state?.settings.channel_in ?? 0)}
            options={numbered(channels, (c) => `channel ${c}`)}
            disabled={!!job}
            set={(c) => void start('channel', { channel: Number(c) })}
          />
        </Setting>
      )}
      <Sizes />
      {state?.files.map((f) => (
        <FileRow key={f.id} file={f} />
      ))}
      {newer && <NewerVersion />}
      {!!state?.files.length && (
        <Flex gap="2" mt="3" wrap="wrap">
          <Button size="xs" variant="outline" disabled={!selection.size || !!job} onClick={() => leave(true)}>
            Leave {selection.size} selected out
          </Button>
          <Button size="xs" variant="outline" disabled={!selection.size || !!job} onClick={() => leave(false)}>
            Take them in again
          </Button>
        </Flex>
      )}
      <Channels />
      <Box mt="4">
        <History />
        <OneFile />
      </Box>
    </>
  )
}
