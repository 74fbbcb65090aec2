import { Button } from '@chakra-ui/react'
import { useState } from 'react'
import { formatOf, useFormats } from '../../api/formats'
import { asked, reach, type File } from '../../scene/units'
import { useParts } from '../../store'
import { counted } from '../../words'
import { Card } from '../Card'

/** Files whose size cannot be meant, and one click for the unit that they may be in. */
export function Sizes() {
  const { state, job, start } = useParts('state', 'job', 'start')
  const formats = useFormats()
  const [, again] = useState(0)
  if (!state || !formats.length) return null
  const key = (f: File) => `meant ${state.id} ${f.name} ${f.unit_m}`
  const open = state.files.filter((f) => !localStorage.getItem(key(f)))
  const take = (files: File[], metres: number) =>
    void start('units', { units: Object.fromEntries(files.map((f) => [f.id, metres])) })
  return asked(open, (f) => !!formatOf(formats, f.name)?.says_unit).map(({ unit, odd, alike }) => (
    <Card
      key={unit[2]}
      heavy={2}
      title={`${odd[0].name} is ${reach(odd[0])}: ${unit[2]}?`}
      text={`${odd.length > 1 ? `So are ${counted(odd.length - 1, 'more file')}. ` : ''}Densities are per metre. Layouts stay as they are.`}
    >
      <Button size="2xs" variant="outline" disabled={!!job} onClick={() => take(alike, unit[0])}>
        Take {alike.length > 1 ? `all ${alike.length}` : 'it'} as {unit[2]}
      </Button>
      {alike.length > odd.length && (
        <Button size="2xs" variant="ghost" disabled={!!job} onClick={() => take(odd, unit[0])}>
          Only {odd.length > 1 ? `these ${odd.length}` : 'this one'}
        </Button>
      )}
      <Button
        size="2xs"
        variant="ghost"
        onClick={() => {
          for (const f of alike) localStorage.setItem(key(f), '1')
          again((n) => n + 1)
        }}
      >
        The size is meant
      </Button>
    </Card>
  ))
}
