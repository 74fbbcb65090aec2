import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react'
import { COLOURS } from './colours'

/** Paper, ink and dyed cloth. Components use the semantic names only. */
const config = defineConfig({
  globalCss: {
    'html, body, #root': { height: '100%' },
    body: { bg: 'paper', color: 'ink', fontSize: '13px', fontVariantNumeric: 'tabular-nums', overflow: 'hidden' },
    select: { bg: 'sheet', border: '1px solid', borderColor: 'thread', rounded: 'sm', px: '1', py: '0.5' },
    input: { accentColor: COLOURS.indigo },
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
        paper: { value: COLOURS.paper },
        sheet: { value: COLOURS.sheet },
        fold: { value: COLOURS.fold },
        thread: { value: COLOURS.thread },
        ink: { value: COLOURS.ink },
        faded: { value: COLOURS.faded },
        indigo: { value: COLOURS.indigo },
        madder: { value: COLOURS.madder },
        moss: { value: COLOURS.moss },
        weld: { value: COLOURS.weld },
        starved: { value: COLOURS.starved },
        lavish: { value: COLOURS.lavish },
      },
    },
  },
})

export const system = createSystem(defaultConfig, config)
