import { useEffect } from 'react'
import { create } from 'zustand'
import { listen, useEvents, type Now } from '../events'
import { useQuilt } from '../store'
import type { components } from '../api/schema'
import { useSession } from './session'

export type OthersWork = components['schemas']['OthersWork']

const SHOWN = 20_000 // ms
let forgetting = 0

/** What somebody else did last, in words, and what is being done for them now. */
export const useTold = create<{ text: string; work: OthersWork | null }>(() => ({ text: '', work: null }))

function tell(work: OthersWork | null) {
  if (work || useTold.getState().work) useTold.setState({ work })
}

/** Shows what was done to the project elsewhere. What is on its way from here is followed by itself; a proposal that is looked at stays on the screen. */
async function take(now: Now, heard: number, project: number): Promise<void> {
  const { state, asOf, job, waiting, looked, reload } = useQuilt.getState()
  if (job) tell(null)
  if (!state || state.id !== project || job || waiting || looked !== null) return
  const was = useTold.getState().work
  tell(now.work ?? null)
  // What their work left is there for everybody.
  if (was && !now.work) void useQuilt.getState().restore()
  // What was heard while this page was at work may be a step that its own work has gone on from since.
  if (now.snapshot === state.snapshot || heard < asOf) return
  await reload()
  if (useQuilt.getState().state?.id !== project) return
  const { user } = useSession.getState()
  const by = now.author && now.author !== user ? now.author : user ? 'Somebody' : 'In another tab'
  useTold.setState({ text: `${by}: ${now.label}` })
  clearTimeout(forgetting)
  forgetting = window.setTimeout(() => useTold.setState({ text: '' }), SHOWN)
}

/** What others do to a project, in other tabs and by other people, is shown within a second, and who did it. */
export function useOthersChanges(project: number) {
  useEffect(() => {
    const look = () => {
      const { now, heard } = useEvents.getState()
      if (now) void take(now, heard, project)
    }
    // What was told while this page was at work itself is looked at when it is done.
    let busy = false
    const ends = [
      useEvents.subscribe((e, before) => e.now !== before.now && look()),
      useQuilt.subscribe((q) => {
        const was = busy
        busy = !!q.job || q.waiting > 0 || q.looked !== null
        if (was && !busy) look()
      }),
      listen(project),
    ]
    return () => {
      ends.forEach((end) => end())
      tell(null)
    }
  }, [project])
}
