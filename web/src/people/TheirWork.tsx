import { Button, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { api } from '../api/client'
import { Thread } from '../frame/Thread'
import { useParts } from '../store'
import type { OthersWork } from './others'
import { useSession } from './session'

/** What is being done on this project for somebody else, or from another tab; whoever may change the project can stop it. */
export function TheirWork({ work }: { work: OthersWork }) {
  const { state } = useParts('state')
  const me = useSession((s) => s.user)
  const [told, setTold] = useState(false)
  return (
    <>
      <Text truncate>
        {work.author === me ? 'In another tab' : work.author}: {work.text}
        <span aria-hidden>{work.part === null ? '' : `, ${(100 * work.part).toFixed(0)} %`}</span>
      </Text>
      {state?.may_change && (
        <Button
          size="xs"
          variant="outline"
          borderColor="ink"
          flexShrink="0"
          disabled={told}
          onClick={() => {
            setTold(true)
            void api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: work.id } } })
          }}
        >
          {told ? 'Stopping' : 'Stop'}
        </Button>
      )}
      <Thread part={work.part} name="Done of it" position="absolute" left="0" bottom="0" />
    </>
  )
}
