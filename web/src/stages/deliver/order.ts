/** What a delivery holds, as it was last chosen. */

export const TEMPLATES = { png: 'as pictures, PNG', svg: 'as lines, SVG', both: 'both', none: 'no templates' }
export const FILLS = { object: 'by object', material: 'by material', island: 'by island', none: 'only outlines' }
export const IMAGES = {
  none: 'none',
  blank: 'blank',
  checker: 'checker',
  object: 'a colour for each object',
  material: 'a colour for each material',
  island: 'a colour for each island',
}
export const KINDS = { png: 'PNG', tiff: 'TIFF', exr: 'EXR' }

/** What goes into a UV channel of the files: the layout, or an old channel; named where a format names them. */
export interface Channel {
  from: 'layout' | number
  name: string
}

export interface Order {
  sheet: number | null
  templates: keyof typeof TEMPLATES
  template_fill: keyof typeof FILLS
  template_zone: boolean
  template_labels: boolean
  template_wire: boolean
  template_paper: boolean
  template_names: boolean
  template_px: number
  images: keyof typeof IMAGES
  picture_format: keyof typeof KINDS
  depth: '8' | '16' | '32'
  alpha: boolean
  pattern: string
  image_tiles: string
  format: string
  joined: boolean
  channels: Channel[]
  paint: boolean
  per_sheet: boolean
  twins_aside: boolean
  clean: string[]
}

export const USUAL: Order = {
  sheet: null,
  templates: 'png',
  template_fill: 'object',
  template_zone: false,
  template_labels: false,
  template_wire: false,
  template_paper: false,
  template_names: false,
  template_px: 0,
  images: 'none',
  picture_format: 'png',
  depth: '8',
  alpha: false,
  pattern: '{sheet}.{tile}',
  image_tiles: '',
  format: '',
  joined: false,
  channels: [],
  paint: false,
  per_sheet: false,
  twins_aside: false,
  clean: [],
}

export const DEPTHS = [
  ['8', '8 bit'],
  ['16', '16 bit'],
] as const
export const EXR_DEPTHS = [
  ['16', 'half floats, linear'],
  ['32', '32-bit floats, linear'],
] as const

/** The depth of tile images that their format has. */
export function depthOf(order: Order): Order['depth'] {
  if (order.picture_format === 'exr') return order.depth === '32' ? '32' : '16'
  return order.depth === '32' ? '16' : order.depth
}

/** The choices as they were left; the sheet and its channels are asked anew. */
export function remembered(): Order {
  const kept = JSON.parse(localStorage.getItem('handover') ?? '{}') as Partial<Order>
  return { ...USUAL, ...kept, sheet: null, channels: [] }
}
