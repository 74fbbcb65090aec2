import { Box, Flex, Text } from '@chakra-ui/react'
import { useState, type ReactNode } from 'react'
import { useQuilt } from '../store'
import { Section } from './arrange/Section'
import { Choice, Main, NumberField, numbered, Setting, Title } from './parts'

const TEMPLATES = { png: 'as pictures, PNG', svg: 'as lines, SVG', both: 'both', none: 'no templates' }
const FILLS = { object: 'by object', material: 'by material', island: 'by island', none: 'only outlines' }
const IMAGES = {
  none: 'none',
  blank: 'blank',
  checker: 'checker',
  object: 'a colour for each object',
  material: 'a colour for each material',
  island: 'a colour for each island',
}
const KINDS = { png: 'PNG', tiff: 'TIFF', exr: 'EXR' }

interface Order {
  sheet: number | null
  templates: keyof typeof TEMPLATES
  template_fill: keyof typeof FILLS
  template_zone: boolean
  template_labels: boolean
  template_wire: boolean
  template_paper: boolean
  template_px: number
  images: keyof typeof IMAGES
  format: keyof typeof KINDS
  depth: '8' | '16'
  alpha: boolean
  pattern: string
  paint: boolean
  per_sheet: boolean
  twins_aside: boolean
}

const USUAL: Order = {
  sheet: null,
  templates: 'png',
  template_fill: 'object',
  template_zone: false,
  template_labels: false,
  template_wire: false,
  template_paper: false,
  template_px: 0,
  images: 'none',
  format: 'png',
  depth: '8',
  alpha: false,
  pattern: '{sheet}.{tile}',
  paint: false,
  per_sheet: false,
  twins_aside: false,
}

/** The choices as they were left; which sheet is asked anew. */
function remembered(): Order {
  const kept = JSON.parse(localStorage.getItem('delivery') ?? '{}') as Partial<Order>
  return { ...USUAL, ...kept, sheet: null }
}

/** What goes into the zip. */
export function Deliver() {
  const { state, job, start, change } = useQuilt()
  const [order, setOrder] = useState(remembered)
  const put = (part: Partial<Order>) => {
    const next = { ...order, ...part }
    localStorage.setItem('delivery', JSON.stringify(next))
    setOrder(next)
  }
  const open = state?.sheets.filter((s) => s.islands && (!s.kept || s.stale.length)) ?? []
  const from = state?.settings.channel_in ?? 0
  const to = state?.settings.channel_out ?? 0
  const oneChannel = state?.files.some((f) => /\.(obj|ply)$/i.test(f.name))
  const twins = state?.settings.twins?.length ?? 0
  const kinds = [...new Set(state?.files.flatMap((f) => f.materials.flatMap((m) => Object.keys(m.images ?? {}))) ?? [])]
  const go = () => {
    const { images, format, depth, alpha, ...rest } = order
    const asked = { fill: images, format, depth: Number(depth), alpha, colour: [0.5, 0.5, 0.5] }
    void start('deliver', { ...rest, paint: order.paint && !!kinds.length, images: images === 'none' ? null : asked })
  }
  return (
    <>
      <Title text="One zip with everything that the next program needs, and a manifest of it.">Deliver</Title>
      {(state?.sheets.length ?? 0) > 1 && (
        <Setting name="What" text="The whole project, or what lies on one sheet.">
          <Choice
            label="What is delivered"
            value={order.sheet === null ? '' : String(order.sheet)}
            options={[['', 'the whole project'], ...state!.sheets.map((s) => [String(s.id), s.name] as const)]}
            set={(s) => put({ sheet: s === '' ? null : Number(s) })}
          />
        </Setting>
      )}
      <Setting
        name="UV channel to write"
        text={
          oneChannel
            ? 'OBJ and PLY have channel 0 only; glTF and USD can take the layout in a free channel and keep the old UVs.'
            : 'A free channel leaves the UVs that the old textures use as they were.'
        }
      >
        <Choice
          label="UV channel to write"
          value={String(to)}
          options={numbered([0, 1, 2, 3], (c) => `channel ${c}`)}
          set={(c) => void change({ settings: { channel_out: Number(c) } })}
        />
      </Setting>
      <Text color="faded" mb="3">
        The layout of channel {from} goes into channel {to}. Names, hierarchy, normals, animations and other channels
        stay as they were. The report is measured on the files that go into the zip.
      </Text>
      <Tick on={order.paint} set={(paint) => put({ paint })} disabled={!kinds.length}>
        <Text fontWeight="600">Carry the old paint over</Text>
        <Text color="faded" fontSize="xs">
          {kinds.length
            ? `${kinds.join(', ')}: resampled into the new sheets; the materials show the new pictures.`
            : 'No material names a picture that came with the files.'}
        </Text>
      </Tick>
      <Tick on={order.per_sheet} set={(per_sheet) => put({ per_sheet })} disabled={!kinds.length || !order.paint}>
        <Text fontWeight="600">One material for each sheet</Text>
        <Text color="faded" fontSize="xs">
          All that lies on a tile shares one material, and plain colours go into its map. Otherwise materials keep their
          names, and one that is spread over several tiles gets a copy for each.
        </Text>
      </Tick>
      <Tick on={order.twins_aside} set={(twins_aside) => put({ twins_aside })} disabled={!twins}>
        <Text fontWeight="600">For the bake: twins one tile aside</Text>
        <Text color="faded" fontSize="xs">
          {twins
            ? `Of ${twins} groups one island stays, the others move beside the sheet, so that each texel is baked once.`
            : 'No islands are marked as twins.'}
        </Text>
      </Tick>
      <Templates order={order} put={put} />
      <Images order={order} put={put} />
      {open.length > 0 && (
        <Text color="madder" my="3">
          {open.map((s) => `${s.name} is ${s.kept ? `stale (${s.stale.join('; ')})` : 'not packed'}`).join('; ')}: the
          files would leave with the UVs as they are.
        </Text>
      )}
      <Box mt="3">
        <Main disabled={!!job || !state?.files.length} onClick={go}>
          Make the zip
        </Main>
      </Box>
    </>
  )
}

interface Part {
  order: Order
  put: (part: Partial<Order>) => void
}

function Templates({ order, put }: Part) {
  return (
    <Section name="Templates to paint over" usual>
      <Setting name="Templates" text="One for each tile in use.">
        <Choice label="Templates" value={order.templates} options={TEMPLATES} set={(templates) => put({ templates })} />
      </Setting>
      <Setting name="Filled" text="What has a colour of its own.">
        <Choice
          label="Filled"
          value={order.template_fill}
          options={FILLS}
          set={(template_fill) => put({ template_fill })}
        />
      </Setting>
      <Setting name="Size" text="0: as large as the map of its tile.">
        <NumberField
          name="Template size"
          value={order.template_px}
          unit="px"
          least={0}
          most={16384}
          whole
          set={(template_px) => put({ template_px })}
        />
      </Setting>
      <Flex gap="3" wrap="wrap">
        <Tick on={order.template_zone} set={(template_zone) => put({ template_zone })}>
          padding zone
        </Tick>
        <Tick on={order.template_labels} set={(template_labels) => put({ template_labels })}>
          names
        </Tick>
        <Tick on={order.template_wire} set={(template_wire) => put({ template_wire })}>
          wire
        </Tick>
        <Tick on={order.template_paper} set={(template_paper) => put({ template_paper })}>
          paper ground
        </Tick>
      </Flex>
    </Section>
  )
}

function Images({ order, put }: Part) {
  return (
    <Section name="Tile images">
      <Setting name="Images" text="One for each tile in use, as large as its map.">
        <Choice label="Tile images" value={order.images} options={IMAGES} set={(images) => put({ images })} />
      </Setting>
      {order.images !== 'none' && (
        <>
          <Flex gap="2" mb="2" align="center" wrap="wrap">
            <Choice
              label="Format of tile images"
              value={order.format}
              options={KINDS}
              set={(format) => put({ format })}
            />
            {order.format !== 'exr' && (
              <Choice
                label="Depth of tile images"
                value={order.depth}
                options={[
                  ['8', '8 bit'],
                  ['16', '16 bit'],
                ]}
                set={(depth) => put({ depth })}
              />
            )}
            <Tick on={order.alpha} set={(alpha) => put({ alpha })}>
              alpha
            </Tick>
          </Flex>
          <Setting name="Names" text="{sheet}, {kind} and {tile} are filled in: prop.1001.png">
            <input
              aria-label="Names of tile images"
              style={{ width: 130, background: 'transparent', border: '1px solid #cdbf9f', padding: '2px 6px' }}
              defaultValue={order.pattern}
              onBlur={(e) => put({ pattern: e.target.value.trim() || USUAL.pattern })}
            />
          </Setting>
        </>
      )}
    </Section>
  )
}

/** Something that is wanted or not. */
function Tick({
  on,
  set,
  disabled,
  children,
}: {
  on: boolean
  set: (on: boolean) => void
  disabled?: boolean
  children: ReactNode
}) {
  return (
    <Flex as="label" gap="2" align="start" mb="2" opacity={disabled ? 0.6 : 1}>
      <input
        type="checkbox"
        style={{ marginTop: 3 }}
        checked={on && !disabled}
        disabled={disabled}
        onChange={(e) => set(e.target.checked)}
      />
      <Box>{children}</Box>
    </Flex>
  )
}
