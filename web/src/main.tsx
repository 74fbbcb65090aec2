import '@fontsource-variable/figtree'
import { ChakraProvider } from '@chakra-ui/react'
import { createRoot } from 'react-dom/client'
import { App } from './App'
import './frame/night'
import { system } from './theme'

createRoot(document.getElementById('root')!).render(
  <ChakraProvider value={system}>
    <App />
  </ChakraProvider>,
)
