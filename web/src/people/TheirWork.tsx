import { api } from '../api/client'
import { Doing } from '../frame/Doing'
import { useParts } from '../store'
import type { OthersWork } from './others'
import { useSession } from './session'

/** What is being done on this project for somebody else, or from another tab; whoever may change the project can stop it. */
export function TheirWork({ work }: { work: OthersWork }) {
  const { state } = useParts('state')
  const me = useSession((s) => s.user)
  const stop = () => void api.POST('/api/jobs/{job_id}/stop', { params: { path: { job_id: work.id } } })
  return (
    <Doing
      text={`${work.author === me ? 'In another tab' : work.author}: ${work.text}`}
      figure={work.part === null ? '' : `, ${(100 * work.part).toFixed(0)} %`}
      part={work.part}
      stop={state?.may_change ? stop : null}
    />
  )
}
