import { Box, Text } from '@chakra-ui/react'
import { useEffect, useState } from 'react'
import { formatOf, titles, useFormats } from '../api/formats'
import { useParts } from '../store'
import { DIRT } from '../words'
import { Channels } from './deliver/Channels'
import { Delivered } from './deliver/Delivered'
import { Images, Templates, Tick } from './deliver/Extras'
import { depthOf, remembered, type Order } from './deliver/order'
import { CHANNELS, Choice, Main, numbered, Setting, Title } from './parts'

/** What goes into the zip. */
export function Deliver() {
  const { state, job, start, change, pieces, showAside, delivered } = useParts(
    'state',
    'job',
    'start',
    'change',
    'pieces',
    'showAside',
    'delivered',
  )
  const [order, setOrder] = useState(remembered)
  const put = (part: Partial<Order>) => {
    const next = { ...order, ...part }
    localStorage.setItem('handover', JSON.stringify(next))
    setOrder(next)
  }
  const open = state?.sheets.filter((s) => s.islands && (!s.kept || s.stale.length)) ?? []
  const from = state?.settings.channel_in ?? 0
  const to = state?.settings.channel_out ?? 0
  const formats = useFormats()
  const single = titles(formats, (f) => f.one_channel)
  const oneChannel = state?.files.some((f) => formatOf(formats, f.name)?.one_channel)
  const twins = state?.settings.twins?.length ?? 0
  const kinds = [...new Set(state?.files.flatMap((f) => f.materials.flatMap((m) => Object.keys(m.images ?? {}))) ?? [])]
  const aside = order.twins_aside && twins > 0
  useEffect(() => {
    showAside(aside)
    return () => showAside(false)
  }, [aside, state?.layout, pieces, showAside])
  const go = () => {
    const { images, image_tiles, picture_format, alpha, ...others } = order
    const { depth, ...rest } = { ...others, depth: depthOf(order) }
    const asked = {
      fill: images,
      format: picture_format,
      depth: Number(depth),
      alpha,
      colour: [0.5, 0.5, 0.5],
      tiles: image_tiles,
    }
    const joined = order.joined && order.format !== '' && (state?.files.length ?? 0) > 1
    void start('deliver', {
      ...rest,
      joined,
      clean: order.format === '' ? [] : order.clean,
      paint: order.paint && !!kinds.length,
      images: images === 'none' ? null : asked,
    })
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
      <Setting name="Files" text={`Names, places and channels go along; ${single} hold one channel and no hierarchy.`}>
        <Choice
          label="Format of the files"
          value={order.format}
          options={[['', 'as they came'], ...formats.flatMap((f) => Object.entries(f.exports))]}
          set={(format) => put({ format })}
        />
      </Setting>
      {order.format !== '' && (state?.files.length ?? 0) > 1 && (
        <Tick on={order.joined} set={(joined) => put({ joined })}>
          <Text fontWeight="600">All in one file</Text>
          <Text color="faded" fontSize="xs">
            {state?.files.length} files become one; their names become its topmost groups.
          </Text>
        </Tick>
      )}
      {order.format !== '' && <Clean clean={order.clean} set={(clean) => put({ clean })} />}
      {!order.channels.length && (
        <Setting
          name="UV channel to write"
          text={
            oneChannel && order.format === ''
              ? `${single} have channel 0 only; ${titles(formats, (f) => !f.one_channel)} can take the layout in a free channel and keep the old UVs.`
              : 'A free channel leaves the UVs that the old textures use as they were.'
          }
        >
          <Choice
            label="UV channel to write"
            value={String(to)}
            options={numbered(CHANNELS, (c) => `channel ${c}`)}
            set={(c) => void change({ settings: { channel_out: Number(c) } })}
          />
        </Setting>
      )}
      <Text color="faded" mb="3">
        The layout of channel {from} goes into channel{' '}
        {order.channels.length ? order.channels.findIndex((c) => c.from === 'layout') : to}.{' '}
        {order.format === ''
          ? 'Names, hierarchy, normals, animations and other channels stay as they were. The report is measured on the files that go into the zip.'
          : 'Geometry, names, normals, channels and materials are written anew; animations stay behind. Each new file is read again and compared.'}
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
          All that lies on a tile shares one material with all factors in its maps; what is seen through, cut out or
          unlit gets one of its own. Otherwise materials keep their names, and one that is spread over several tiles
          gets a copy for each.
        </Text>
      </Tick>
      <Tick on={order.twins_aside} set={(twins_aside) => put({ twins_aside })} disabled={!twins}>
        <Text fontWeight="600">For the bake: twins one tile aside</Text>
        <Text color="faded" fontSize="xs">
          {twins
            ? `In each group of twins (${twins}) one island stays, the others move beside the sheet, so that each texel is baked once; the table shows it.`
            : 'No islands are marked as twins.'}
        </Text>
      </Tick>
      <Channels channels={order.channels} set={(channels) => put({ channels })} />
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
      {delivered && <Delivered said={delivered} />}
    </>
  )
}

/** What of the meshes is put right, since they are written anew. */
function Clean({ clean, set }: { clean: string[]; set: (clean: string[]) => void }) {
  return (
    <Box mb="3">
      <Text fontWeight="600">Clean the meshes of</Text>
      <Text color="faded" fontSize="xs" mb="1">
        This changes their geometry; how much of each there was is told. Mend shows where.
      </Text>
      {Object.entries(DIRT).map(([kind, name]) => (
        <Tick
          key={kind}
          on={clean.includes(kind)}
          set={(on) => set(on ? [...clean, kind] : clean.filter((k) => k !== kind))}
        >
          <Text fontSize="xs">{name}</Text>
        </Tick>
      ))}
    </Box>
  )
}
