import { create } from 'zustand'
import { useQuilt } from '../store'
import { roomOf, VIEWS, type Fold, type Room, type Rooms, type View } from './rooms'

const KEY = 'room'

function kept(): Rooms {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(KEY) ?? '{}')
    return typeof found === 'object' && found ? (found as Rooms) : {}
  } catch {
    return {}
  }
}

const useRooms = create<{ rooms: Rooms }>(() => ({ rooms: kept() }))

export function useRoom(): Room {
  const stage = useQuilt((q) => q.stage)
  return roomOf(
    useRooms((r) => r.rooms),
    stage,
  )
}

function put(part: Partial<Room>): void {
  const stage = useQuilt.getState().stage
  const { rooms } = useRooms.getState()
  const next = { ...rooms, [stage]: { ...roomOf(rooms, stage), ...part } }
  localStorage.setItem(KEY, JSON.stringify(next))
  useRooms.setState({ rooms: next })
}

export const setViews = (views: View) => put({ views })

/** The next way to show the pictures, or the one before. */
export function turnViews(by: number): void {
  const every = Object.keys(VIEWS) as View[]
  const now = roomOf(useRooms.getState().rooms, useQuilt.getState().stage).views
  setViews(every[(every.indexOf(now) + by + every.length) % every.length])
}

/** Fold something, or open it again. */
export function fold(what: Fold): void {
  const { folded } = roomOf(useRooms.getState().rooms, useQuilt.getState().stage)
  put({ folded: folded.includes(what) ? folded.filter((f) => f !== what) : [...folded, what] })
}
