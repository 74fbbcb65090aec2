import { Box, Button, Flex, Text } from '@chakra-ui/react'
import { useState } from 'react'
import { beyondSaving, objectsOf } from '../../scene/saving'
import { useParts } from '../../store'
import { Tick } from '../deliver/Extras'
import { Proposals } from './Proposals'
import { Choice, NumberField, Setting } from '../parts'
import { plain } from '../../words'

const STRETCHES = {
  '1.1': 'little stretch, more seams',
  '1.25': 'some of both',
  '1.6': 'few seams, more stretch',
}

/** New UVs: which objects need them, how they are cut, and what came out. */
export function NewUvs() {
  const { state, faults, selection, job, start, unwrapped, looked } = useParts(
    'looked',
    'state',
    'faults',
    'selection',
    'job',
    'start',
    'unwrapped',
  )
  const [stretch, setStretch] = useState<keyof typeof STRETCHES>('1.25')
  const [hard, setHard] = useState(false)
  const [angle, setAngle] = useState(60)
  const [materials, setMaterials] = useState(false)
  const [keep, setKeep] = useState(false)
  const [flat, setFlat] = useState(true)
  const [alike, setAlike] = useState(true)
  const [holes, setHoles] = useState(false)
  const [bare, setBare] = useState(false)
  if (!state) return null
  const bad = beyondSaving(state, faults)
  const against = faults.find((f) => f.repair === 'clean')
  const chosen = objectsOf(state, selection)
  const whom = chosen.length ? chosen : bad
  const objects = (n: number) => `${n} ${n === 1 ? 'object' : 'objects'}`
  const partly = state.objects.filter((o) => chosen.includes(o.key) && o.islands > 0 && o.bare > 0)
  const asked = {
    objects: whom,
    hard_edges: hard ? angle : null,
    material_borders: materials,
    keep_seams: keep,
    keep_flat: flat,
    alike,
    close_holes: holes,
    bare: !partly.length || bare,
  }
  return (
    <Box mb="4">
      <Text fontWeight="600">New UVs</Text>
      <Text color="faded" fontSize="xs" mb="1">
        {bad.length
          ? `${objects(bad.length)} cannot be saved by moving islands: no UVs, folds, islands over themselves, or stretch.`
          : 'Nothing here is beyond saving. Selected objects can be unwrapped all the same.'}
      </Text>
      <Setting name="Cut for" text="What is good stays as it is. Nothing folds or overlaps, whatever is chosen.">
        <Choice label="Stretch that is allowed" value={stretch} options={STRETCHES} set={setStretch} />
      </Setting>
      <Tick on={flat} set={setFlat}>
        <Text fontSize="xs">Flat sides stay flat</Text>
      </Tick>
      <Tick on={alike} set={setAlike}>
        <Text fontSize="xs">Mirrored halves are cut alike</Text>
      </Tick>
      <Tick on={holes} set={setHoles}>
        <Text fontSize="xs">Small holes keep their shape, as if they were closed</Text>
      </Tick>
      <Tick on={hard} set={setHard}>
        <Flex align="center" gap="1" fontSize="xs">
          <Text>Hard edges are seams, from</Text>
          <NumberField name="Hard edges from" value={angle} unit="°" least={1} most={180} set={setAngle} />
        </Flex>
      </Tick>
      <Tick on={materials} set={setMaterials}>
        <Text fontSize="xs">Borders of materials are seams</Text>
      </Tick>
      <Tick on={keep} set={setKeep}>
        <Text fontSize="xs">The seams that there are stay</Text>
      </Tick>
      {partly.length > 0 && (
        <Tick on={bare} set={setBare}>
          <Text fontSize="xs">
            Also the {partly.reduce((n, o) => n + o.bare, 0).toLocaleString('en')} triangles that have no UVs in this
            channel
          </Text>
        </Tick>
      )}
      {against && (
        <Flex align="center" gap="2" my="1">
          <Text flex="1" fontSize="xs" color="madder">
            {against.title}, so they fall into many more islands.
          </Text>
          <Button
            size="2xs"
            variant="outline"
            disabled={!!job}
            title="For good: the files are written anew in their own format. One step that can be undone."
            onClick={() => void start('clean', { objects: chosen.length ? chosen : null })}
          >
            Clean first
          </Button>
        </Flex>
      )}
      <Flex gap="1" wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || !whom.length || looked !== null}
          onClick={() => void start('unwrap', { ...asked, stretch: Number(stretch) })}
        >
          {chosen.length
            ? `Unwrap ${chosen.length === 1 ? 'the whole object' : `all ${objects(chosen.length)}`} selected`
            : bad.length
              ? `Unwrap ${objects(bad.length)} anew`
              : 'Unwrap anew'}
        </Button>
        <Button
          size="xs"
          variant="outline"
          disabled={!!job || !whom.length || looked !== null}
          title="Unwrap in three ways, look at each on the model and the table, then take one"
          onClick={() => void start('propose', asked)}
        >
          Compare three ways
        </Button>
      </Flex>
      <Proposals />
      {unwrapped.length > 0 && <Outcome />}
    </Box>
  )
}

/** What was made of which object, before and after. */
function Outcome() {
  const { unwrapped } = useParts('unwrapped')
  const share = (x: number) => `${(100 * x).toFixed(0)}`
  // Objects that had no UVs have no figures from before.
  const from = (islands: number, text: string) => (islands ? `${text} to ` : '')
  return (
    <Box as="table" role="table" aria-label="New UVs" mt="2" fontSize="xs" w="100%">
      <thead>
        <tr>
          <Head>Object</Head>
          <Head end>Islands</Head>
          <Head end>Seam</Head>
          <Head end title="Share of the surface whose stretch is under 1.1">
            Unstretched
          </Head>
        </tr>
      </thead>
      <tbody>
        {unwrapped.map((o, n) => (
          <tr key={n}>
            <Cell>{o.name}</Cell>
            {o.now ? (
              <>
                <Cell end>{from(o.was.islands, String(o.was.islands)) + o.now.islands}</Cell>
                <Cell end>{from(o.was.islands, plain(o.was.seam_m, 3)) + plain(o.now.seam_m, 3)} m</Cell>
                <Cell end>
                  {from(o.was.islands, share(o.was.stretch.share_under_1_1)) + share(o.now.stretch.share_under_1_1)} %
                </Cell>
              </>
            ) : (
              <Cell span={3}>{o.why}</Cell>
            )}
          </tr>
        ))}
      </tbody>
    </Box>
  )
}

function Head({ children, end, title }: { children: string; end?: boolean; title?: string }) {
  return (
    <Box
      as="th"
      whiteSpace="nowrap"
      pl="1.5"
      textAlign={end ? 'right' : 'left'}
      color="faded"
      fontWeight="400"
      title={title}
    >
      {children}
    </Box>
  )
}

function Cell({ children, end, span }: { children: React.ReactNode; end?: boolean; span?: number }) {
  return (
    <td
      colSpan={span}
      style={{ textAlign: end ? 'right' : 'left', padding: '1px 0 1px 6px', whiteSpace: end ? 'nowrap' : undefined }}
    >
      {children}
    </td>
  )
}
