import { Button, Text } from '@chakra-ui/react'
import { useEffect, useState } from 'react'
import { useParts } from '../store'
import { figure } from './progress'
import { Thread } from './Thread'

const SHORT = 500 // ms: work that is over before needs no stop

/** What is being done: in words, with a figure, a thread that grows with it, and a stop. */
export function Working() {
  const { job, stop } = useParts('job', 'stop')
  const [since] = useState(() => Date.now())
  const [now, setNow] = useState(since)
  const [told, setTold] = useState(false)
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 250)
    return () => clearInterval(timer)
  }, [])
  if (!job) return null
  const part = job.part ?? null
  const keeps = job.kind === 'pack' || job.kind === 'propose'
  return (
    <>
      <Text truncate>
        {String(job.progress.text ?? 'Waiting for the worker')}
        {/* Read out is what is done; the figure changes all the time. */}
        <span aria-hidden>{figure(job, (now - since) / 1000)}</span>
      </Text>
      {now - since >= SHORT && (
        <Button
          size="xs"
          variant="outline"
          borderColor="ink"
          disabled={told}
          flexShrink="0"
          onClick={() => {
            setTold(true)
            void stop()
          }}
        >
          {told ? 'Stopping' : keeps ? 'Stop, keep the best' : 'Stop'}
        </Button>
      )}
      <Thread part={part} name="Done of it" position="absolute" left="0" bottom="0" />
    </>
  )
}
