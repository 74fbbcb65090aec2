import type { ObjectRow, State } from '../api/client'

/** Whether an island of its file is one of an object's. */
export function holds(o: Pick<ObjectRow, 'first_island' | 'islands'>, island: number): boolean {
  return island >= o.first_island && island < o.first_island + o.islands
}

/** The numbers of an object's islands in its file. */
export function numbersOf(o: Pick<ObjectRow, 'first_island' | 'islands'>): number[] {
  return Array.from({ length: o.islands }, (_, k) => o.first_island + k)
}

/** The object that an island ("file:number") belongs to; of several that place one mesh the first. */
export function objectOf(state: State, key: string): ObjectRow | undefined {
  const [file, island] = key.split(':').map(Number)
  return state.objects.find((o) => o.file === file && holds(o, island))
}
