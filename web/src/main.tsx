import '@fontsource-variable/figtree'
import { ChakraProvider } from '@chakra-ui/react'
import { createRoot } from 'react-dom/client'
import { App } from './App'
import { Away } from './frame/Away'
import './frame/night'
import { system } from './theme'

createRoot(document.getElementById('root')!).render(
  <ChakraProvider value={system}>
    <div style={{ display: 'flex', flexDirection: 'column', height: '100%' }}>
      <Away />
      <div style={{ flex: 1, minHeight: 0 }}>
        <App />
      </div>
    </div>
  </ChakraProvider>,
)
