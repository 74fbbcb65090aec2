import { Button, Flex, Heading, Text } from '@chakra-ui/react'
import { useParts } from '../store'
import { Me } from '../people/Me'
import { TheirWork } from '../people/TheirWork'
import { useTold } from '../people/others'
import { NightSwitch } from './NightSwitch'
import { Others } from './Others'
import { Shortcuts } from './Shortcuts'
import { Working } from './Working'

/** The bar of a project: its name, undo and redo, what is being done and what else is. */
export function Bar({ leave }: { leave: () => void }) {
  const { state, job, waiting, step, refusedChange } = useParts('state', 'job', 'waiting', 'step', 'refusedChange')
  const { text: told, work } = useTold()
  return (
    <Flex as="header" align="center" gap="3" px="3" h="40px" flexShrink="0" position="relative">
      <Button variant="plain" p="0" aria-label="All projects" title="All projects" onClick={leave}>
        <img src="/mark.svg" width="24" alt="" />
      </Button>
      <Heading as="h1" fontSize="md" fontWeight="600" truncate>
        {state?.name}
      </Heading>
      <Button
        size="xs"
        variant="ghost"
        disabled={!state?.undo || !!job}
        title={`Undo ${state?.undo ?? ''} (Ctrl+Z)`}
        onClick={() => void step('undo')}
      >
        Undo
      </Button>
      <Button
        size="xs"
        variant="ghost"
        disabled={!state?.redo || !!job}
        title={`Redo ${state?.redo ?? ''} (Ctrl+Shift+Z)`}
        onClick={() => void step('redo')}
      >
        Redo
      </Button>
      <Flex flex="1" minW="0" justify="center" align="center" gap="3" role="status" aria-live="polite">
        {job ? (
          <Working key={job.id} />
        ) : work ? (
          <TheirWork key={work.id} work={work} />
        ) : (
          told && <Text truncate>{told}</Text>
        )}
      </Flex>
      {state && <Others but={state.id} />}
      <Text color="faded">
        {job
          ? 'Working'
          : waiting
            ? 'Saving'
            : refusedChange
              ? 'Not saved'
              : state?.may_change === false
                ? 'To look at'
                : 'All saved'}
      </Text>
      <Me />
      <NightSwitch />
      <Shortcuts />
    </Flex>
  )
}
