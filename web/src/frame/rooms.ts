import type { STAGES } from '../store/types'

export type Stage = (typeof STAGES)[number]

/** Which of the two pictures are shown, and how they lie. */
export const VIEWS = {
  both: 'table over model',
  side: 'side by side',
  table: 'table alone',
  model: 'model alone',
} as const
export type View = keyof typeof VIEWS

/** What folds to a narrow edge. */
export const FOLDS = { ledger: 'the ledger', worksheet: 'the worksheet', tries: 'the tries' } as const
export type Fold = keyof typeof FOLDS

export interface Room {
  views: View
  folded: Fold[]
}

const ARRANGE: Room = { views: 'table', folded: [] }
const USUAL: Room = { views: 'both', folded: [] }

export type Rooms = Partial<Record<Stage, Room>>

/** How a stage shares out the screen: as it was left, or as suits it. */
export function roomOf(rooms: Rooms, stage: Stage): Room {
  const usual = stage === 'Arrange' ? ARRANGE : USUAL
  const own = rooms[stage]
  return {
    views: own?.views && own.views in VIEWS ? own.views : usual.views,
    folded: Array.isArray(own?.folded) ? own.folded.filter((f) => f in FOLDS) : usual.folded,
  }
}
