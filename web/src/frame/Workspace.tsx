import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useEffect, useState, type DragEvent } from 'react'
import { Group, Panel, Separator, useDefaultLayout } from 'react-resizable-panels'
import { Ledger } from '../ledger/Ledger'
import { DRAGGED } from '../ledger/LineRow'
import { ModelView } from '../model/ModelView'
import { dropped } from '../stages/drop'
import { Worksheet } from '../stages/Worksheet'
import { STAGES, useParts } from '../store'
import { sent } from '../scene/sheets'
import { isPicture, tileInName } from '../scene/pictures'
import { shownTable, TableView } from '../table/TableView'
import { useOthersChanges } from '../people/others'
import { Tries } from '../tries/Tries'
import { Bar } from './Bar'
import { useKeys } from './keys'
import { Part } from './Part'
import { openPoints } from './points'
import { useRoom } from './room'
import type { View } from './rooms'
import { Edge, RoomBar } from './RoomBar'

/** What stands beside the pictures keeps its width when the window grows. */
const BESIDE = { minSize: '270px', groupResizeBehavior: 'preserve-pixel-size' } as const

const TABLE = (
  <Part name="the table">
    <TableView />
  </Part>
)
const MODEL = (
  <Part name="the model">
    <ModelView />
  </Part>
)
const TRIES = (
  <Part name="the tries">
    <Tries />
  </Part>
)

/** The frame of a project: bar, stage rail, ledger, table and model, worksheet, tries. */
export function Workspace({ id, leave }: { id: number; leave: () => void }) {
  const q = useParts('open', 'close', 'state', 'putPicture', 'upload', 'say', 'change', 'selection')
  const [over, setOver] = useState(false)
  const { open, close } = q
  useEffect(() => {
    void open(id)
    return close
  }, [id, open, close])
  useEffect(() => {
    document.title = q.state ? `${q.state.name} – Untold Quilt` : 'Untold Quilt'
  }, [q.state])
  useKeys()
  useOthersChanges(id)
  const room = useRoom()
  const ledger = !room.folded.includes('ledger')
  const sheet = !room.folded.includes('worksheet')
  const panels = [...(ledger ? ['ledger-panel'] : []), 'pictures-panel', ...(sheet ? ['worksheet-panel'] : [])]
  const frame = useDefaultLayout({ id: 'frame', panelIds: panels })
  const views = useDefaultLayout({ id: `views ${room.views}` })
  const wide = innerWidth >= 1500

  async function drop(e: DragEvent) {
    e.preventDefault()
    setOver(false)
    const tile = shownTable.current?.tileAt(e.clientX, e.clientY) ?? null
    const line = e.dataTransfer.getData(DRAGGED)
    if (line) {
      if (tile && q.state)
        await q.change({ settings: sent(q.state, q.selection.has(line) ? q.selection : [line], tile) })
      return
    }
    try {
      const files = await dropped(e.dataTransfer)
      // Pictures alone go under a tile: the one in their name, or the one that they fell on.
      if (files.length && q.state?.files.length && files.every((f) => isPicture(f.path)))
        for (const f of files) await q.putPicture(tileInName(f.path) ?? tile ?? 1001, f.file)
      else void q.upload(files)
    } catch {
      q.say('What was dropped could not be read. Choose the files with the button in Gather instead.')
    }
  }

  return (
    <Flex
      direction="column"
      h="100%"
      onDragOver={(e) => {
        e.preventDefault()
        if (!e.dataTransfer.types.includes(DRAGGED)) setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => void drop(e)}
      outline={over ? '3px dashed' : undefined}
      outlineColor="indigo"
      outlineOffset="-6px"
    >
      <Bar leave={leave} />
      <Rail />
      <Said />
      <Flex as="main" flex="1" minH="0">
        {!ledger && <Edge what="ledger" />}
        <Group orientation="horizontal" id="frame" {...frame} style={{ flex: 1 }}>
          {ledger && (
            <>
              <Panel id="ledger-panel" defaultSize={wide ? '340px' : '300px'} {...BESIDE}>
                <Part name="the ledger">
                  <Ledger />
                </Part>
              </Panel>
              <Divide />
            </>
          )}
          <Panel id="pictures-panel" minSize="300px">
            <Pictures views={room.views} layout={views} />
          </Panel>
          {sheet && (
            <>
              <Divide />
              <Panel id="worksheet-panel" defaultSize={wide ? '360px' : '300px'} {...BESIDE}>
                <Part name="the worksheet">
                  <Worksheet />
                </Part>
              </Panel>
            </>
          )}
        </Group>
        {!sheet && <Edge what="worksheet" />}
      </Flex>
      {room.folded.includes('tries') ? <Edge what="tries" flat /> : TRIES}
    </Flex>
  )
}

/** What went wrong last, with what can be done about it. */
function Said() {
  const { message, say, refusedChange, again, state, open } = useParts(
    'message',
    'say',
    'refusedChange',
    'again',
    'state',
    'open',
  )
  const [seen, setSeen] = useState('')
  const broken = state?.broken && `${state.id} ${state.broken}` !== seen ? state.broken : ''
  if (!message && !broken) return null
  const close = () => {
    say('')
    if (state) setSeen(`${state.id} ${broken}`)
  }
  return (
    <Flex role="alert" bg="sheet" borderBottom="1px solid" borderColor="madder" color="madder" px="4" py="2" gap="3">
      <Text flex="1">
        {message || `The step "${broken}" could not be shown. The project went back to the step before it.`}
      </Text>
      {message && refusedChange && (
        <Button size="2xs" bg="indigo" color="sheet" onClick={() => void again()}>
          Apply {refusedChange.words}
        </Button>
      )}
      {message && !state && (
        <Button size="2xs" bg="indigo" color="sheet" onClick={() => void open(Number(location.pathname.split('/')[2]))}>
          Try again
        </Button>
      )}
      <Button size="2xs" variant="ghost" onClick={close}>
        Close
      </Button>
    </Flex>
  )
}

/** The table and the model: one above the other, side by side, or one alone. */
function Pictures({ views, layout }: { views: View; layout: ReturnType<typeof useDefaultLayout> }) {
  if (views === 'table') return TABLE
  if (views === 'model') return MODEL
  const beside = views === 'side'
  return (
    <Group key={views} orientation={beside ? 'horizontal' : 'vertical'} id={`views ${views}`} {...layout}>
      <Panel id="table-panel" defaultSize="55%" minSize="120px">
        {TABLE}
      </Panel>
      <Divide flat={!beside} />
      <Panel id="model-panel" minSize="100px">
        {MODEL}
      </Panel>
    </Group>
  )
}

function Divide({ flat = false }: { flat?: boolean }) {
  return (
    <Separator>
      <Box w={flat ? '100%' : '5px'} h={flat ? '5px' : '100%'} bg="fold" _hover={{ bg: 'thread' }} />
    </Separator>
  )
}

function Rail() {
  const { stage, setStage, state, faults } = useParts('stage', 'setStage', 'state', 'faults')
  return (
    <Flex as="nav" aria-label="Stages" px="3" gap="1" borderBottom="1px dashed" borderColor="thread" flexShrink="0">
      {STAGES.map((s) => {
        const count = openPoints(s, state, faults)
        const here = s === stage
        return (
          <Button
            key={s}
            size="sm"
            variant="plain"
            aria-current={here ? 'step' : undefined}
            rounded="0"
            borderBottom="3px solid"
            borderColor={here ? 'indigo' : 'transparent'}
            color={here ? 'ink' : 'faded'}
            onClick={() => setStage(s)}
          >
            {s}
            {count > 0 && (
              <Text as="span" color="madder" title={`${count} open points`}>
                {count}
              </Text>
            )}
          </Button>
        )
      })}
      <RoomBar />
    </Flex>
  )
}
