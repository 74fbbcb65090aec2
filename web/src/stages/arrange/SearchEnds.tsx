import type { State } from '../../api/client'
import type { Recipe } from '../../scene/sheets'
import { plain } from '../../words'
import { Choice, NumberField, Setting } from '../parts'

/** The newest try of a sheet that says how many passes it took. */
const counted = (state: State, sheet: number) =>
  state.tries.findLast((t) => t.sheet === sheet && t.figures.passes)?.figures

/** What is known of how long passes take. */
function lastPasses(state: State, sheet: number): string {
  const f = counted(state, sheet)
  if (!f) return 'Pack for a time first: it is told here how many passes that makes.'
  return `The last layout of this sheet took ${f.passes?.toLocaleString('en')}, in ${plain(f.seconds ?? 0)} s.`
}

interface Props {
  state: State
  sheet: number
  recipe: Recipe
  set: (part: Partial<Recipe>) => void
}

/** When the search of a sheet ends: after a time, or after counted passes. */
export function SearchEnds({ state, sheet, recipe: s, set }: Props) {
  return (
    <>
      <Setting
        name="The search ends"
        text={
          s.passes == null
            ? 'Stop it sooner whenever it is good enough. Counted passes give the same layout every time, on every machine: for jobs that run again.'
            : 'The same files, rules and seed give the same layout every time, on every machine. How long that takes is told while it packs.'
        }
      >
        <Choice
          label="The search ends"
          value={s.passes == null ? 'time' : 'passes'}
          options={{ time: 'after a time', passes: 'after counted passes' }}
          set={(v) => set({ passes: v === 'time' ? null : (counted(state, sheet)?.passes ?? 200) })}
        />
      </Setting>
      {s.passes == null ? (
        <Setting name="Time" text="The search goes on this long.">
          <NumberField
            name="Time"
            value={s.seconds}
            unit="s"
            least={0}
            most={3600}
            set={(seconds) => set({ seconds })}
          />
        </Setting>
      ) : (
        <Setting name="Passes" text={lastPasses(state, sheet)}>
          <NumberField
            name="Passes"
            value={s.passes}
            unit=""
            least={1}
            most={1e7}
            whole
            set={(passes) => set({ passes })}
          />
        </Setting>
      )}
    </>
  )
}
