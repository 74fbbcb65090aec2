import { Box, Button, Flex } from '@chakra-ui/react'
import type { ReactNode } from 'react'
import { ranges, sheetsOf, tilesOf } from '../../scene/sheets'
import { useParts } from '../../store'
import { Section } from '../arrange/Section'
import { Choice, NumberField, Setting, TextField } from '../parts'
import { DEPTHS, depthOf, EXR_DEPTHS, FILLS, IMAGES, KINDS, TEMPLATES, USUAL, type Order } from './order'

interface Part {
  order: Order
  put: (part: Partial<Order>) => void
}

/** Pictures to paint over. */
export function Templates({ order, put }: Part) {
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
        <Tick on={order.template_names} set={(template_names) => put({ template_names })}>
          names of tiles in the files' names
        </Tick>
      </Flex>
    </Section>
  )
}

/** Pictures to begin with. */
export function Images({ order, put }: Part) {
  const { state } = useParts('state')
  const grid = () => (state ? ranges(new Set(sheetsOf(state.settings).flatMap(tilesOf))) : '')
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
              value={order.picture_format}
              options={KINDS}
              set={(picture_format) => put({ picture_format })}
            />
            <Choice
              label="Depth of tile images"
              value={depthOf(order)}
              options={order.picture_format === 'exr' ? EXR_DEPTHS : DEPTHS}
              set={(depth) => put({ depth })}
            />
            <Tick on={order.alpha} set={(alpha) => put({ alpha })}>
              alpha
            </Tick>
          </Flex>
          <Setting name="Tiles" text="Empty: those in use. 1001-1004, 1011 makes these.">
            <TextField
              label="Tiles that get an image"
              value={order.image_tiles}
              set={(image_tiles) => put({ image_tiles })}
            />
            <Button size="2xs" variant="ghost" onClick={() => put({ image_tiles: grid() })}>
              All of the grid
            </Button>
          </Setting>
          <Setting
            name="Names"
            text="{sheet}, {kind}, {channel}, {tile} and {name} of the tile are filled in: prop.1001.png, face.png"
          >
            <TextField
              label="Names of tile images"
              value={order.pattern}
              set={(pattern) => put({ pattern: pattern || USUAL.pattern })}
            />
          </Setting>
        </>
      )}
    </Section>
  )
}

/** Something that is wanted or not. */
export function Tick({
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
