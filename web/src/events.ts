import { create } from 'zustand'
import type { components } from './api/schema'

export type Now = components['schemas']['NowOut']
export type AtWork = components['schemas']['AtWork']

/** What the application tells this page by itself; `away`: it does not answer just now; `heard`: when it last told anything (ms). */
export const useEvents = create<{ away: boolean; now: Now | null; heard: number; work: AtWork[] }>(() => ({
  away: false,
  now: null,
  heard: 0,
  work: [],
}))

const AGAIN = 2000 // ms
let source: EventSource | null = null
let project: number | null = null
let listening = false
let retry = 0

/** Asks whether the application answers at all. */
export async function probe(): Promise<void> {
  const answer = await fetch('/api/session').catch(() => null)
  if (answer) return useEvents.setState({ away: false })
  useEvents.setState({ away: true })
  clearTimeout(retry)
  retry = window.setTimeout(() => void (useEvents.getState().away && probe()), AGAIN)
}

/** Listens to what happens to a project, and to work in all of them; with none to the latter alone. Returns what ends it. */
export function listen(to: number | null): () => void {
  project = to
  listening = true
  open()
  return () => {
    if (project !== to) return
    listening = false
    close()
    useEvents.setState({ now: null, work: [] })
  }
}

function close(): void {
  source?.close()
  source = null
}

function open(): void {
  close()
  // A browser has few connections to one place: a page that nobody sees takes none.
  if (!listening || document.hidden) return
  const mine = new EventSource(`/api/events${project === null ? '' : `?project=${project}`}`)
  source = mine
  mine.onmessage = (e: MessageEvent<string>) => {
    if (mine !== source) return
    useEvents.setState({
      away: false,
      heard: performance.now(),
      ...(JSON.parse(e.data) as { now: Now | null; work: AtWork[] }),
    })
  }
  // Closed by the application for good, or not there: the browser itself asks again only where a stream broke off.
  mine.onerror = () => {
    if (mine !== source) return
    void probe()
    if (mine.readyState === EventSource.CLOSED) setTimeout(() => mine === source && open(), AGAIN)
  }
}

document.addEventListener('visibilitychange', open)
addEventListener('no-answer', () => void probe())
