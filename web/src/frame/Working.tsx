import { useEffect, useState } from 'react'
import { useParts } from '../store'
import { Doing } from './Doing'
import { figure } from './progress'

const SHORT = 500 // ms: work that is over before needs no stop

/** What is being done on this page. */
export function Working() {
  const { job, stop } = useParts('job', 'stop')
  const [since] = useState(() => Date.now())
  const [now, setNow] = useState(since)
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 250)
    return () => clearInterval(timer)
  }, [])
  if (!job) return null
  const keeps = job.kind === 'pack' || job.kind === 'propose'
  return (
    <Doing
      text={String(job.progress.text ?? 'Waiting for the worker')}
      figure={figure(job, (now - since) / 1000)}
      part={job.part ?? null}
      stop={now - since >= SHORT ? () => void stop() : null}
      stops={keeps ? 'Stop, keep the best' : 'Stop'}
    />
  )
}
