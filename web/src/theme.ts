import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react'

/** Paper, ink and dyed cloth. Components use the semantic names only. */
const config = defineConfig({
  globalCss: {
    'html, body, #root': { height: '100%' },
    body: { bg: 'paper', color: 'ink', fontSize: '13px', fontVariantNumeric: 'tabular-nums', overflow: 'hidden' },
    select: { bg: 'sheet', border: '1px solid', borderColor: 'thread', rounded: 'sm', px: '1', py: '0.5' },
    input: { accentColor: '#3d5a98' },
    '*:focus-visible': { outline: '2px solid', outlineColor: 'indigo', outlineOffset: '1px' },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: '"Figtree Variable", sans-serif' },
        heading: { value: '"Figtree Variable", sans-serif' },
      },
      fontSizes: { xs: { value: '12px' }, sm: { value: '13px' }, md: { value: '15px' }, lg: { value: '20px' } },
    },
    semanticTokens: {
      colors: {
        paper: { value: '#f6f0e3' },
        sheet: { value: '#fbf7ee' },
        fold: { value: '#ebe2cf' },
        thread: { value: '#cdbf9f' },
        ink: { value: '#26324d' },
        faded: { value: '#5b6275' },
        indigo: { value: '#3d5a98' },
        madder: { value: '#a33f34' },
        moss: { value: '#4d6530' },
        weld: { value: '#7a5c1e' },
        starved: { value: '#1f7f86' },
        lavish: { value: '#7d3a78' },
      },
    },
  },
})

export const system = createSystem(defaultConfig, config)

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
