import { Text } from '@chakra-ui/react'
import type { Settings } from '../api/client'
import { useQuilt } from '../store'
import { Explain } from './Explain'
import { Choice, Main, NumberField, numbered, Setting, Title } from './parts'
import { Rules } from './Rules'
import { TURNS, type Turn } from './turns'

const MAPS = [64, 128, 256, 512, 1024, 2048, 4096, 8192]
const AIMS = { fit: 'the highest that fits', hold: 'hold this number' }
const SIZES = { even: 'even the density', keep: 'keep their ratios' }

export function Arrange() {
  const { state, job, change, start, setPreview } = useQuilt()
  if (!state) return null
  const s = state.settings
  const set = (part: Partial<Settings>) => void change({ settings: part })
  const usual = Math.max(1, (16 * s.map_px) / 2048)
  const levels = s.padding_px >= 1 ? Math.floor(Math.log2(s.padding_px)) : 0
  const islands = state.objects.filter((o) => !o.left_out).reduce((n, o) => n + o.islands, 0)
  return (
    <>
      <Title text="All islands packed into one tile, at one density times their weights.">Arrange</Title>
      <Setting name="Map size" text="Padding and density are counted in pixels of this map.">
        <Choice
          label="Map size"
          value={String(s.map_px)}
          options={numbered(MAPS, (m) => `${m} px`)}
          set={(m) => {
            const k = Number(m) / s.map_px
            set({ map_px: Number(m), padding_px: s.padding_px * k, margin_px: s.margin_px * k })
          }}
        />
      </Setting>
      <Setting
        name="Padding"
        text={`Between islands; stays a pixel wide down to mip level ${levels}. ${usual} px is the safe habit at this size. The table shows half of it around each island.`}
      >
        <NumberField
          name="Padding"
          value={s.padding_px}
          unit="px"
          least={0}
          most={256}
          preview={(padding_px) => setPreview({ padding_px })}
          set={(padding_px) => set({ padding_px })}
        />
      </Setting>
      <Setting name="Margin" text="To the border of the tile. Half the padding is usual: a repeated tile doubles it.">
        <NumberField
          name="Margin"
          value={s.margin_px}
          unit="px"
          least={0}
          most={256}
          preview={(margin_px) => setPreview({ margin_px })}
          set={(margin_px) => set({ margin_px })}
        />
      </Setting>
      <Setting name="Turn islands" text="Steps of 90° keep straight edges straight on the pixels.">
        <Choice label="Turn islands" value={s.rotate as Turn} options={TURNS} set={(rotate) => set({ rotate })} />
      </Setting>
      <Setting name="Density" text={s.hold ? 'What does not fit is named.' : 'As sharp as everything fits at.'}>
        <Choice
          label="Density"
          value={s.hold ? 'hold' : 'fit'}
          options={AIMS}
          set={(aim) => set({ hold: aim === 'hold' })}
        />
      </Setting>
      {s.hold && (
        <Setting name="Hold" text={`${(s.density / 100).toPrecision(4)} px/cm`}>
          <NumberField
            name="Held density"
            value={s.density}
            unit="px/m"
            least={0.001}
            most={1e7}
            set={(density) => set({ density })}
          />
        </Setting>
      )}
      <Setting
        name="Islands' sizes"
        text="Keeping them leaves the islands as sharp against each other as they are now."
      >
        <Choice
          label="Islands' sizes"
          value={s.keep_ratios ? 'keep' : 'even'}
          options={SIZES}
          set={(size) => set({ keep_ratios: size === 'keep' })}
        />
      </Setting>
      <Setting name="Time" text="The search goes on this long; stop it whenever it is good enough.">
        <NumberField name="Time" value={s.seconds} unit="s" least={0} most={3600} set={(seconds) => set({ seconds })} />
      </Setting>
      <Main disabled={!!job || !islands} onClick={() => void start('pack')}>
        Pack this sheet
      </Main>
      <Text color="faded" mt="2" mb="4">
        {islands} islands of {state.objects.filter((o) => !o.left_out && o.islands).length} objects.
      </Text>
      <Rules />
      <Explain />
    </>
  )
}
