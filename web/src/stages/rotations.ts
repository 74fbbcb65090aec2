export type Rotation = 'none' | '180' | '90' | '45' | 'free'

/** How islands may turn, by the recipe's words. */
export const ROTATIONS: [Rotation, string][] = [
  ['none', 'not at all'],
  ['180', 'by 180°'],
  ['90', 'by 90°'],
  ['45', 'by 45°'],
  ['free', 'freely'],
]

/** A way of turning in words. */
export const turning = (way: unknown) => ROTATIONS.find(([k]) => k === way)?.[1] ?? String(way)
