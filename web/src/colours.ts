/** Every colour of the application. The pages use them by the theme's names, pictures and shaders from here. */
export const COLOURS = {
  paper: '#f6f0e3',
  sheet: '#fbf7ee',
  fold: '#ebe2cf',
  thread: '#cdbf9f',
  ink: '#26324d',
  faded: '#5b6275',
  indigo: '#3d5a98',
  madder: '#a33f34',
  moss: '#4d6530',
  weld: '#7a5c1e',
  starved: '#1f7f86',
  lavish: '#7d3a78',
  starvedDeep: '#126b73',
  even: '#e6d6b8',
  lavishDeep: '#6b2966',
  checkerLight: '#f7f1e2',
  checkerDark: '#d9c8a0',
  checkerLightAlt: '#efe3c8',
  checkerDarkAlt: '#c6b187',
  checkerInk: '#4a5878',
  guide: '#8d8160',
  bleached: '#faf5eb',
  unmapped: '#ccc2b3',
  madderDeep: '#6d1f17',
  patch: '#e9e0cc',
  unknown: '#ccc7bf',
  starvedPale: '#9eccc7',
  lavishPale: '#d4adcc',
  washed: '#fdf9f0',
  inkDeep: '#1a243d',
  guidePale: '#b8ab8a',
  guideInk: '#6d6347',
  cloth: '#fdfaf3',
  taut: '#b98a5a',
  tautDeep: '#6b4a36',
} as const

/** By night the ground is indigo and what is written on it undyed thread; what is not named stays as by day. */
export const NIGHT = {
  paper: '#151c30',
  sheet: '#1e2742',
  fold: '#2b3556',
  thread: '#56628a',
  ink: '#efe6d2',
  faded: '#b3b9ca',
  indigo: '#9db4ea',
  madder: '#f0988b',
  moss: '#aecb86',
  weld: '#e2c074',
  starved: '#7fd0d4',
  lavish: '#dca3d6',
  cloth: '#232d4a',
  washed: '#f4ecd9',
  guide: '#8f97b0',
  guidePale: '#59648a',
  guideInk: '#c3c9da',
} as const

/** The colours of what is drawn over the table, as the theme is now. */
export function drawn(night: boolean): Record<keyof typeof COLOURS, string> {
  return night ? { ...COLOURS, ...NIGHT } : COLOURS
}

/** A colour of the theme where a style is written by hand. */
export const themed = (name: keyof typeof NIGHT) => `var(--chakra-colors-${name})`

/** A colour as the shaders write it. */
export function vec(colour: string): string {
  const part = (at: number) => (parseInt(colour.slice(at, at + 2), 16) / 255).toFixed(4)
  return `vec3(${part(1)}, ${part(3)}, ${part(5)})`
}

/** Cloth colours of objects: the same list as the template pictures of the server. */
export const CLOTH = [
  '#3d5a98',
  '#b1483c',
  '#c79a1e',
  '#6b4a36',
  '#5f7a3a',
  '#4a93a8',
  '#b8647f',
  '#a9652b',
  '#66707c',
  '#7a5591',
  '#2f7f68',
  '#8a8544',
]
