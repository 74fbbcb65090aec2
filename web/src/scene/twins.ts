import type { State } from '../api/client'
import { objectOf } from './objects'
import { sheetBy, sheetOfIsland } from './sheets'

/** An island that the bake finds beside its sheet, and by how many tiles. */
export interface Aside {
  file: number
  island: number
  columns: number
}

/** Of every group of twins the first island stays; the others go aside by the width of their sheet, as a delivery for the bake puts them. */
export function asideTwins(state: State): Aside[] {
  const parsed = (key: string) => key.split(':').map(Number) as [number, number]
  return (state.settings.twins ?? []).flatMap((group) =>
    group
      .map(parsed)
      .filter(([file, island]) => objectOf(state, `${file}:${island}`))
      .sort(([f, i], [g, j]) => f - g || i - j)
      .slice(1)
      .map(([file, island]) => {
        const { number } = objectOf(state, `${file}:${island}`)!
        const sheet = sheetBy(state.settings, sheetOfIsland(state.settings, file, number, island))
        return { file, island, columns: sheet.columns ?? 1 }
      }),
  )
}
