import { useEffect } from 'react'
import { create } from 'zustand'
import { api } from '../api/client'
import { useQuilt } from '../store'
import type { components } from '../api/schema'
import { useSession } from './session'

export type OthersWork = components['schemas']['OthersWork']

const OFTEN = 1200 // ms
const SHOWN = 20_000
let forgetting = 0

/** What somebody else did last, in words, and what is being done for them now. */
export const useTold = create<{ text: string; work: OthersWork | null }>(() => ({ text: '', work: null }))

/** On an installation of a team: what others do to a project is shown within two seconds, and who did it. */
export function useOthersChanges(project: number) {
  const team = useSession((s) => s.team && !!s.user)
  useEffect(() => {
    if (!team) return
    let asking = false
    const tell = (work: OthersWork | null) => {
      if (work || useTold.getState().work) useTold.setState({ work })
    }
    const look = async () => {
      const { state, job, waiting, looked } = useQuilt.getState()
      if (job) tell(null)
      // What is on its way from here is followed by itself; a proposal that is looked at stays on the screen.
      if (asking || document.hidden || !state || state.id !== project || job || waiting || looked !== null) return
      asking = true
      try {
        const { data } = await api.GET('/api/projects/{project_id}/now', { params: { path: { project_id: project } } })
        const now = useQuilt.getState()
        if (!data || now.state?.id !== project || now.job || now.waiting) return
        tell(data.work)
        if (data.snapshot !== now.state.snapshot) {
          await now.reload()
          const by = data.author && data.author !== useSession.getState().user ? data.author : 'Somebody'
          useTold.setState({ text: `${by}: ${data.label}` })
          clearTimeout(forgetting)
          forgetting = window.setTimeout(() => useTold.setState({ text: '' }), SHOWN)
        }
      } catch {
        // An application that does not answer is told of where it is asked for something.
      } finally {
        asking = false
      }
    }
    const timer = setInterval(() => void look(), OFTEN)
    return () => {
      clearInterval(timer)
      tell(null)
    }
  }, [project, team])
}
