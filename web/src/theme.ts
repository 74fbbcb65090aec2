import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react'
import { COLOURS, NIGHT } from './colours'

const both = (name: keyof typeof NIGHT) => ({ value: { base: COLOURS[name], _dark: NIGHT[name] } })

/** Paper, ink and dyed cloth; by night indigo ground and undyed thread. Components use the semantic names only. */
const config = defineConfig({
  globalCss: {
    'html, body, #root': { height: '100%' },
    body: { bg: 'paper', color: 'ink', fontSize: '13px', fontVariantNumeric: 'tabular-nums', overflow: 'hidden' },
    select: { bg: 'sheet', border: '1px solid', borderColor: 'thread', rounded: 'sm', px: '1', py: '0.5' },
    input: { accentColor: 'var(--chakra-colors-indigo)' },
    '.dark': { colorScheme: 'dark' },
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
        paper: both('paper'),
        sheet: both('sheet'),
        fold: both('fold'),
        thread: both('thread'),
        ink: both('ink'),
        faded: both('faded'),
        indigo: both('indigo'),
        madder: both('madder'),
        moss: both('moss'),
        weld: both('weld'),
        starved: both('starved'),
        lavish: both('lavish'),
      },
    },
  },
})

export const system = createSystem(defaultConfig, config)
